package engine

import (
	"context"
	"fmt"
	"strings"

	"nivot/internal/core/reason"
	"nivot/internal/core/value"
	"nivot/internal/mail"
	"nivot/internal/store"
)

// SendOne sends a message that is no occasion, such as a test email, at once
// and once. The sender's domain takes the place of the Message-ID's.
func (e *Engine) SendOne(ctx context.Context, senderID string, m *mail.Message, messageID string) error {
	sender, server, err := e.Sender(ctx, senderID)
	if err != nil {
		return err
	}
	return SendBy(ctx, sender, server, m, messageID)
}

// SendBy sends one message at once by a sender that need not be saved.
func SendBy(ctx context.Context, sender *store.Sender, server mail.Server, m *mail.Message, messageID string) error {
	boxes, err := value.ParseMailboxes(sender.Address)
	if err != nil || len(boxes) != 1 {
		return fmt.Errorf("the sender's address %q cannot be used", sender.Address)
	}
	m.From = boxes[0]
	m.From.Name = sender.Name
	_, domain, _ := strings.Cut(m.From.ASCII(), "@")
	m.MessageID = messageID[:strings.IndexByte(messageID, '@')+1] + domain + ">"
	msg, err := mail.Compose(m)
	if err != nil {
		return err
	}
	c, err := mail.Dial(ctx, server, helo())
	if err != nil {
		return err
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, c.Drop)
	defer stop()
	var to []string
	for _, b := range m.To {
		to = append(to, b.ASCII())
	}
	if most := c.SizeLimit(); most > 0 && len(msg) > most {
		return &mail.Fault{Step: mail.HandingOver, Code: reason.MessageTooLarge, Place: server.Place()}
	}
	out, ready, err := c.Begin(m.From.ASCII(), to, len(msg), func(rs []mail.Reply) bool { return rs[0].Positive() })
	lost := func(err error) error {
		code := reason.Unreachable
		if ctx.Err() != nil {
			code = reason.NoAnswer
		}
		return &mail.Fault{Step: mail.HandingOver, Code: code, Place: server.Place(), Err: err}
	}
	if err != nil {
		return lost(err)
	}
	if !ready {
		if out.Refused.Code != 0 {
			return mail.ReplyFault(out.Step, server.Place(), out.Refused)
		}
		return mail.ReplyFault(mail.NamingRecipient, server.Place(), out.Recipients[0])
	}
	if err := c.Body(msg); err != nil {
		return lost(err)
	}
	reply, err := c.Finish()
	if err != nil {
		return lost(err)
	}
	if !reply.Positive() {
		return mail.ReplyFault(mail.HandingOver, server.Place(), reply)
	}
	return nil
}
