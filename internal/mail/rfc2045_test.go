package mail

import (
	"encoding/base64"
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// The tests' own reading of a message, from the texts of RFC 2045, 2046, 2047, 2231 and 5322, and
// of nothing else: it shares no code with what writes messages, nor with the libraries that read them.

// entity is a message or a part of one.
type entity struct {
	fields [][2]string // in order, unfolded
	parts  []*entity   // of a multipart
	body   []byte      // decoded, of a leaf
}

// readEntity reads a header and a body; every fault is an error.
func readEntity(raw string) (*entity, error) {
	head, body, ok := strings.Cut(raw, "\r\n\r\n")
	if !ok {
		return nil, fmt.Errorf("no empty line behind the header")
	}
	e := &entity{}
	for _, line := range strings.Split(head, "\r\n") {
		if strings.ContainsAny(line, "\r\n") {
			return nil, fmt.Errorf("a bare CR or LF in %q", line)
		}
		if line != "" && (line[0] == ' ' || line[0] == '\t') {
			if len(e.fields) == 0 || strings.TrimSpace(line) == "" {
				return nil, fmt.Errorf("a folded line of nothing: %q", line)
			}
			e.fields[len(e.fields)-1][1] += line
			continue
		}
		name, value, ok := strings.Cut(line, ":")
		if !ok || !fieldName.MatchString(name) {
			return nil, fmt.Errorf("%q is no header field", line)
		}
		e.fields = append(e.fields, [2]string{name, value})
	}
	typ, params := e.media("Content-Type")
	if strings.HasPrefix(typ, "multipart/") {
		return e, e.readParts(body, params["boundary"])
	}
	var err error
	e.body, err = decodeBody(body, strings.ToLower(e.get("Content-Transfer-Encoding")))
	return e, err
}

var fieldName = regexp.MustCompile(`^[!-9;-~]+$`)

func (e *entity) readParts(body, boundary string) error {
	if boundary == "" || len(boundary) > 70 {
		return fmt.Errorf("the boundary %q", boundary)
	}
	// RFC 2046, section 5.1.1: a delimiter begins a line; the line break before it is its own.
	pieces := strings.Split("\r\n"+body, "\r\n--"+boundary)
	if len(pieces) < 3 || !strings.HasPrefix(pieces[len(pieces)-1], "--") {
		return fmt.Errorf("the multipart is not closed")
	}
	for _, p := range pieces[1 : len(pieces)-1] {
		rest := strings.TrimLeft(p, " \t")
		if !strings.HasPrefix(rest, "\r\n") {
			return fmt.Errorf("text behind a delimiter: %.40q", p)
		}
		part, err := readEntity(rest[2:])
		if err != nil {
			return err
		}
		e.parts = append(e.parts, part)
	}
	return nil
}

func (e *entity) get(name string) string {
	for _, f := range e.fields {
		if strings.EqualFold(f[0], name) {
			return strings.TrimSpace(f[1])
		}
	}
	return ""
}

// media reads a field with parameters (RFC 2045, section 5.1; RFC 2231, sections 3 and 4).
func (e *entity) media(name string) (typ string, params map[string]string) {
	params = map[string]string{}
	v := e.get(name)
	typ, rest, _ := strings.Cut(v, ";")
	pieces := map[string]map[int]string{}
	for rest = strings.TrimSpace(rest); rest != ""; rest = strings.TrimLeft(rest, "; \t") {
		key, after, ok := strings.Cut(rest, "=")
		if !ok {
			break
		}
		key = strings.ToLower(strings.TrimSpace(key))
		val := ""
		if after = strings.TrimLeft(after, " \t"); strings.HasPrefix(after, `"`) {
			i := 1
			for ; i < len(after) && after[i] != '"'; i++ {
				if after[i] == '\\' && i+1 < len(after) {
					i++
				}
				val += string(after[i])
			}
			rest = after[min(i+1, len(after)):]
		} else if val, rest, ok = strings.Cut(after, ";"); !ok {
			rest = ""
		}
		extended := strings.HasSuffix(key, "*")
		base, number, counted := strings.Cut(strings.TrimSuffix(key, "*"), "*")
		n, _ := strconv.Atoi(number)
		if extended {
			if n == 0 {
				_, val, _ = strings.Cut(val, "'")
				_, val, _ = strings.Cut(val, "'")
			}
			val = unpercent(strings.TrimSpace(val))
		}
		if !extended && !counted {
			if _, there := params[base]; !there {
				params[base] = strings.TrimSpace(val)
			}
			continue
		}
		if pieces[base] == nil {
			pieces[base] = map[int]string{}
		}
		pieces[base][n] = val
	}
	for base, list := range pieces {
		params[base] = ""
		for i := range len(list) {
			params[base] += list[i]
		}
	}
	return strings.ToLower(strings.TrimSpace(typ)), params
}

func unpercent(s string) string {
	var b []byte
	for i := 0; i < len(s); i++ {
		if n, err := strconv.ParseUint(s[min(i+1, len(s)):min(i+3, len(s))], 16, 8); s[i] == '%' && err == nil {
			b = append(b, byte(n))
			i += 2
			continue
		}
		b = append(b, s[i])
	}
	return string(b)
}

// decodeBody undoes a transfer encoding (RFC 2045, section 6).
func decodeBody(s, encoding string) ([]byte, error) {
	switch encoding {
	case "base64":
		for _, line := range strings.Split(s, "\r\n") {
			if len(line) > 76 {
				return nil, fmt.Errorf("a line of %d characters in base64", len(line))
			}
		}
		return base64.StdEncoding.DecodeString(strings.ReplaceAll(s, "\r\n", ""))
	case "quoted-printable":
		for _, line := range strings.Split(s, "\r\n") {
			if len(line) > 76 {
				return nil, fmt.Errorf("a line of %d characters in quoted-printable", len(line))
			}
		}
		return unquote(s)
	case "", "7bit":
		for i := range len(s) {
			if s[i] > 0x7e {
				return nil, fmt.Errorf("an octet above 127 in 7bit")
			}
		}
		return []byte(s), nil
	}
	return nil, fmt.Errorf("the encoding %q", encoding)
}

func unquote(s string) ([]byte, error) {
	var out []byte
	lines := strings.Split(s, "\r\n")
	for i, line := range lines {
		line = strings.TrimRight(line, " \t")
		soft := strings.HasSuffix(line, "=")
		for k := 0; k < len(strings.TrimSuffix(line, "=")); k++ {
			if line[k] != '=' {
				if line[k] < ' ' && line[k] != '\t' || line[k] > '~' {
					return nil, fmt.Errorf("the octet %#x stands by itself", line[k])
				}
				out = append(out, line[k])
				continue
			}
			n, err := strconv.ParseUint(line[k+1:min(k+3, len(line))], 16, 8)
			if err != nil {
				return nil, fmt.Errorf("%q is no octet", line[k:])
			}
			out = append(out, byte(n))
			k += 2
		}
		if !soft && i < len(lines)-1 {
			out = append(out, '\r', '\n')
		}
	}
	return out, nil
}

var encodedWord = regexp.MustCompile(`=\?([^?\s]+)\?([qQbB])\?([^?\s]*)\?=`)

// unword undoes encoded words; white space between two of them goes (RFC 2047, section 6.2).
func unword(s string) (string, error) {
	var b strings.Builder
	last, first := 0, true
	for _, m := range encodedWord.FindAllStringSubmatchIndex(s, -1) {
		between := s[last:m[0]]
		if first || strings.TrimSpace(between) != "" {
			b.WriteString(between)
		}
		if m[1]-m[0] > 75 {
			return "", fmt.Errorf("an encoded word of %d characters", m[1]-m[0])
		}
		text := s[m[6]:m[7]]
		if strings.EqualFold(s[m[4]:m[5]], "b") {
			raw, err := base64.StdEncoding.DecodeString(text)
			if err != nil {
				return "", err
			}
			text = string(raw)
		} else {
			raw, err := unquote(strings.ReplaceAll(text, "_", "=20"))
			if err != nil {
				return "", err
			}
			text = string(raw)
		}
		b.WriteString(text)
		last, first = m[1], false
	}
	b.WriteString(s[last:])
	return b.String(), nil
}

// walk goes through the leaves, with the multiparts that they stand in.
func (e *entity) walk(within string, f func(within string, leaf *entity)) {
	if len(e.parts) == 0 {
		f(within, e)
		return
	}
	typ, _ := e.media("Content-Type")
	for _, p := range e.parts {
		p.walk(within+"/"+strings.TrimPrefix(typ, "multipart/"), f)
	}
}
