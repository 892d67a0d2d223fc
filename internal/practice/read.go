package practice

import (
	"bytes"
	"errors"
	"io"
	"mime"
	"strings"

	"github.com/emersion/go-message"
	_ "github.com/emersion/go-message/charset" // other charsets than UTF-8
	gomail "github.com/emersion/go-message/mail"
)

func decodeHeader(s string) string {
	out, err := new(mime.WordDecoder).DecodeHeader(s)
	if err != nil {
		return s
	}
	return out
}

// Content is a message opened for reading.
type Content struct {
	HTML    string
	Text    string
	Headers [][2]string // in order
	Files   []File      // images that the HTML shows, and attachments, in order
}

// File is a part of a message that is none of its texts.
type File struct {
	Name string
	Type string
	CID  string // its Content-ID without angle brackets; "" where it has none
	Data []byte
}

// Open reads a message's headers, its two texts and its files.
func Open(raw []byte) (*Content, error) {
	r, err := gomail.CreateReader(bytes.NewReader(raw))
	if err != nil && !message.IsUnknownCharset(err) {
		return nil, err
	}
	c := &Content{}
	fields := r.Header.Fields()
	for fields.Next() {
		c.Headers = append(c.Headers, [2]string{fields.Key(), decodeHeader(fields.Value())})
	}
	for {
		p, err := r.NextPart()
		if errors.Is(err, io.EOF) {
			return c, nil
		}
		if err != nil {
			return nil, err
		}
		b, err := io.ReadAll(p.Body)
		if err != nil {
			return nil, err
		}
		disposition, _, _ := mime.ParseMediaType(p.Header.Get("Content-Disposition"))
		cid := strings.Trim(p.Header.Get("Content-Id"), "<>")
		switch typ := p.Header.Get("Content-Type"); {
		case disposition == "attachment" || cid != "":
			c.Files = append(c.Files, fileOf(p, cid, b))
		case strings.HasPrefix(typ, "text/html"):
			c.HTML = string(b)
		case strings.HasPrefix(typ, "text/plain"):
			c.Text = string(b)
		}
	}
}

func fileOf(p *gomail.Part, cid string, data []byte) File {
	f := File{CID: cid, Data: data}
	f.Type, _, _ = mime.ParseMediaType(p.Header.Get("Content-Type"))
	if _, params, err := mime.ParseMediaType(p.Header.Get("Content-Disposition")); err == nil {
		f.Name = decodeHeader(params["filename"])
	}
	return f
}
