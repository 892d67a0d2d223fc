package engine

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/exchange"
	"nivot/internal/mail"
	"nivot/internal/store"
)

// From gives the mailbox that a delivery's message is from and its domain, and where its links
// lead: as it was when it was last claimed, or as it would be now.
func (e *Engine) From(ctx context.Context,
	d *store.Delivery) (from value.Mailbox, domain, publicURL string, err error) {
	id := d.IdentityID
	if id == 0 {
		if id, err = e.identity(ctx, e.Store, d.SenderID); err != nil {
			return from, "", "", err
		}
	}
	if id == 0 {
		return value.Mailbox{Local: "nobody", Domain: "nivot.invalid"}, "nivot.invalid", e.opts.PublicURL, nil
	}
	i, err := e.Store.Identity(ctx, id)
	if err != nil {
		return from, "", "", err
	}
	boxes, err := value.ParseMailboxes(i.Address)
	if err != nil || len(boxes) != 1 {
		return from, "", "", fmt.Errorf("the sender's address %q cannot be used", i.Address)
	}
	from = boxes[0]
	from.Name = i.Name
	_, domain, _ = strings.Cut(from.ASCII(), "@")
	return from, domain, i.PublicURL, nil
}

// Message makes the message of a delivery: what its letter says, to whom, with what it
// carries, from its sender. Made again it is the same to the byte.
func (e *Engine) Message(ctx context.Context, d *store.Delivery, letter *store.Letter,
	to []store.Recipient) (*mail.Message, error) {
	from, domain, publicURL, err := e.From(ctx, d)
	if err != nil {
		return nil, err
	}
	m := &mail.Message{From: from, Subject: d.Subject, HTML: letter.HTML, Text: letter.Text, Date: d.JudgedAt}
	if d.DatedAt != nil {
		m.Date = *d.DatedAt
	}
	if letter.Subject != "" {
		m.Subject = letter.Subject
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
	if err := e.letOptOut(ctx, m, d, letter, to, publicURL); err != nil {
		return nil, err
	}
	m.Files, err = e.Carried(ctx, letter)
	return m, err
}

// letOptOut puts the link that stops such emails where the letter has it, and into the
// message's header where its rule asks. With one click only where the email has one recipient: nobody
// unsubscribes another.
func (e *Engine) letOptOut(ctx context.Context, m *mail.Message, d *store.Delivery, letter *store.Letter,
	to []store.Recipient, publicURL string) error {
	if !letter.OptOut && !strings.Contains(letter.Text, template.OptOutMark) &&
		!strings.Contains(letter.HTML, template.OptOutMark) {
		return nil
	}
	link, err := e.OptOutLink(ctx, d, publicURL)
	if err != nil {
		return err
	}
	m.HTML, m.Text = strings.ReplaceAll(m.HTML, template.OptOutMark, link),
		strings.ReplaceAll(m.Text, template.OptOutMark, link)
	if letter.OptOut {
		m.Unsubscribe, m.OneClick = link, len(to) == 1
	}
	return nil
}

// Carried fetches what a letter carries.
func (e *Engine) Carried(ctx context.Context, letter *store.Letter) ([]mail.File, error) {
	var out []mail.File
	for _, c := range letter.Carried {
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

// writeMade writes the tables and invitations that an email carries as files, and keeps these.
func writeMade(ctx context.Context, tx *store.Store, r *template.Rendered, now time.Time) error {
	return eachMade(r, now, func(a *template.Attached, data []byte) error {
		return tx.KeepFile(ctx, &store.File{ID: store.FileID(a.File), Type: a.Type, Size: int64(len(data)), Data: data,
			CreatedAt: now})
	})
}

// ShowMade writes the tables and invitations that an email carries as files to be looked at, or sent as a test, which
// nothing keeps.
func (e *Engine) ShowMade(r *template.Rendered) error {
	return eachMade(r, e.now(), func(a *template.Attached, data []byte) error {
		_, err := e.files.get(a.File, func() ([]byte, error) { return data, nil })
		return err
	})
}

// eachMade makes the files that an email has of its own: tables and invitations.
func eachMade(r *template.Rendered, now time.Time, keep func(*template.Attached, []byte) error) error {
	for i := range r.Attachments {
		a := &r.Attachments[i]
		var data []byte
		var err error
		switch {
		case a.Rows != nil:
			data, err = fileOfRows(a.Rows)
		case a.Event != nil:
			data, err = exchange.Invitation(a.Event, now)
		default:
			continue
		}
		if err != nil {
			return err
		}
		a.File, a.Size, a.Rows, a.Event = template.ContentID(data), len(data), nil, nil
		if err := keep(a, data); err != nil {
			return err
		}
	}
	return nil
}

func fileOfRows(t *template.Rows) ([]byte, error) {
	var b bytes.Buffer
	write := exchange.CSVWriter
	if t.Format == template.XLSX {
		write = exchange.XLSXWriter
	}
	w, err := write(&b, exchange.Out{Sheet: t.Sheet, Columns: t.Columns})
	if err != nil {
		return nil, err
	}
	for _, row := range t.Rows {
		if err := w.Row(row, nil); err != nil {
			return nil, err
		}
	}
	err = w.Close()
	return b.Bytes(), err
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
