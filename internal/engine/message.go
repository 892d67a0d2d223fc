package engine

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/mail"
	"nivot/internal/store"
)

// Message makes the message of a delivery: what its letter says, to whom, with what it
// carries, from a sender, at a time.
func (e *Engine) Message(ctx context.Context, d *store.Delivery, letter *store.Letter, to []store.Recipient, from value.Mailbox, at time.Time) (*mail.Message, error) {
	m := &mail.Message{From: from, Subject: d.Subject, HTML: letter.HTML, Text: letter.Text, Date: at}
	domain := from.Domain
	if _, d, ok := strings.Cut(from.ASCII(), "@"); ok {
		domain = d
	}
	m.MessageID = delivery.MessageID(fmt.Sprintf("%x", d.Occasion), d.Attempt, domain)
	for _, r := range to {
		boxes, err := value.ParseMailboxes(r.Mailbox)
		if err != nil {
			return nil, err
		}
		switch r.Role {
		case "to":
			m.To = append(m.To, boxes...)
		case "cc":
			m.Cc = append(m.Cc, boxes...)
		}
	}
	if d.ReplyTo != "" {
		boxes, err := value.ParseMailboxes(d.ReplyTo)
		if err != nil {
			return nil, err
		}
		m.ReplyTo = boxes
	}
	if err := e.letOptOut(ctx, m, d, letter, to); err != nil {
		return nil, err
	}
	var err error
	m.Files, err = e.Carried(ctx, letter)
	return m, err
}

// letOptOut puts the link that stops such emails where the letter has it, and into the
// message's header where its rule asks. With one click only where the email has one recipient: nobody
// unsubscribes another.
func (e *Engine) letOptOut(ctx context.Context, m *mail.Message, d *store.Delivery, letter *store.Letter, to []store.Recipient) error {
	if !letter.OptOut && !strings.Contains(letter.Text, template.OptOutMark) && !strings.Contains(letter.HTML, template.OptOutMark) {
		return nil
	}
	link, err := e.optOutLink(ctx, d)
	if err != nil {
		return err
	}
	m.HTML, m.Text = strings.ReplaceAll(m.HTML, template.OptOutMark, link), strings.ReplaceAll(m.Text, template.OptOutMark, link)
	if letter.OptOut {
		m.Unsubscribe, m.OneClick = link, len(to) == 1
	}
	return nil
}

// Carried fetches what a letter carries.
func (e *Engine) Carried(ctx context.Context, letter *store.Letter) ([]mail.File, error) {
	carried, err := letter.Files()
	if err != nil {
		return nil, err
	}
	var out []mail.File
	for _, c := range carried {
		data, err := e.files.get(c.File, func() ([]byte, error) {
			f, err := e.Store.File(ctx, c.File)
			if err != nil {
				return nil, fmt.Errorf("its file %s: %w", c.Name, err)
			}
			return f.Data, nil
		})
		if err != nil {
			return nil, err
		}
		f := mail.File{Name: c.Name, Type: c.Type, Data: data}
		if c.Inline {
			f.CID = template.CID(c.File)
		}
		out = append(out, f)
	}
	return out, nil
}

// fileCache keeps the files that emails carried last, so that the same attachment of a
// thousand emails is fetched once.
type fileCache struct {
	mu    sync.Mutex
	files map[string][]byte
	size  int
}

// maxCached bounds the cache, in bytes.
const maxCached = 64 << 20

func (c *fileCache) get(id string, fetch func() ([]byte, error)) ([]byte, error) {
	c.mu.Lock()
	data, ok := c.files[id]
	c.mu.Unlock()
	if ok {
		return data, nil
	}
	data, err := fetch()
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.files == nil || c.size+len(data) > maxCached {
		c.files, c.size = map[string][]byte{}, 0
	}
	if _, ok := c.files[id]; !ok {
		c.files[id] = data
		c.size += len(data)
	}
	return data, nil
}
