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
}

// Open reads a message's headers and its two texts.
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
		switch typ := p.Header.Get("Content-Type"); {
		case strings.HasPrefix(typ, "text/html"):
			c.HTML = string(b)
		case strings.HasPrefix(typ, "text/plain"):
			c.Text = string(b)
		}
	}
}
