package template

import (
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"strings"
)

// Line is text and fields in turn, on one line: a link's target, an image's
// alternative text, an attachment's name.
type Line []LinePart

// LinePart is text or a field.
type LinePart struct {
	Text  string
	Field *Field
}

// UnmarshalJSON reads text, or a list of texts and fields.
func (l *Line) UnmarshalJSON(b []byte) error {
	*l = nil
	var text string
	if json.Unmarshal(b, &text) == nil {
		if text != "" {
			*l = Line{{Text: text}}
		}
		return nil
	}
	var raw []json.RawMessage
	if err := json.Unmarshal(b, &raw); err != nil {
		return fmt.Errorf("a line is text, or a list of texts and fields")
	}
	for _, r := range raw {
		var p LinePart
		if json.Unmarshal(r, &p.Text) != nil {
			p.Field = &Field{}
			if err := strict(r, p.Field); err != nil {
				return err
			}
		}
		*l = append(*l, p)
	}
	return nil
}

// MarshalJSON writes what UnmarshalJSON reads.
func (l Line) MarshalJSON() ([]byte, error) {
	if len(l) == 0 {
		return []byte(`""`), nil
	}
	if len(l) == 1 && l[0].Field == nil {
		return json.Marshal(l[0].Text)
	}
	parts := make([]any, len(l))
	for i, p := range l {
		if parts[i] = p.Text; p.Field != nil {
			parts[i] = p.Field
		}
	}
	return json.Marshal(parts)
}

func (l Line) fields() (out []*Field) {
	for i := range l {
		if l[i].Field != nil {
			out = append(out, l[i].Field)
		}
	}
	return out
}

func (l Line) validate(p *place) error {
	for _, f := range l.fields() {
		if err := f.validate(p); err != nil {
			return err
		}
	}
	return nil
}

// validateLink checks a link's target. Its first part holds scheme and host, which no value
// can change; or it is the link that stops these emails, alone.
func (l Line) validateLink(p *place) error {
	if len(l) == 1 && l[0].Field != nil && l[0].Field.Of == OptOut {
		return l[0].Field.validate(p)
	}
	if p.draft {
		return l.validate(p)
	}
	if len(l) == 0 || l[0].Field != nil {
		return fmt.Errorf("a link begins with its address, not with a field")
	}
	if err := l.validate(p); err != nil {
		return err
	}
	whole := ""
	for _, part := range l {
		if part.Field != nil {
			if part.Field.Of == OptOut {
				return fmt.Errorf("the link that stops these emails stands alone as a link's address")
			}
			whole += "x"
			continue
		}
		whole += part.Text
	}
	if err := CheckLink(whole); err != nil {
		return err
	}
	if u, err := url.Parse(whole); len(l) > 1 && err == nil && u.Host != "" {
		head := u.Scheme + "://" + u.Host
		if rest, ok := strings.CutPrefix(strings.ToLower(l[0].Text), strings.ToLower(head)); !ok || rest == "" ||
			!strings.ContainsAny(rest[:1], "/?#") {
			return fmt.Errorf("a field in a link stands behind its host")
		}
	}
	return nil
}

// CheckLink allows links that a mail reader may follow: http, https, mailto
// and tel.
func CheckLink(href string) error {
	u, err := url.Parse(href)
	if err != nil || strings.ContainsAny(href, " \t\r\n<>\"") {
		return fmt.Errorf("%q is not a link", href)
	}
	switch u.Scheme {
	case "http", "https":
		if u.Host == "" {
			return fmt.Errorf("the link %q has no address", href)
		}
		return nil
	case "mailto", "tel":
		return nil
	}
	return fmt.Errorf("the link %q has to begin with https://, http://, mailto: or tel: to lead anywhere", href)
}

var colour = regexp.MustCompile(`^#[0-9a-fA-F]{6}$`)

func sameLine(a, b Line) bool {
	x, _ := json.Marshal(a)
	y, _ := json.Marshal(b)
	return string(x) == string(y)
}
