package exchange

import (
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"
)

// scanner parts a text into records (RFC 4180). Lines end with CR, LF or both; a break within
// quotes is the cell's, CR LF there being LF.
type scanner struct {
	text   string
	sep    rune
	at     int // byte
	line   int // that it is in, from 1
	starts []int
}

// next gives the next record and the line that it begins in. starts then says where its cells
// begin, in bytes.
func (s *scanner) next() (rec []string, line int, err error) {
	if s.at >= len(s.text) {
		return nil, 0, io.EOF
	}
	s.at += len(s.text[s.at:]) - len(strings.TrimLeft(s.text[s.at:], "\ufeff")) // where files were put together
	line, s.starts = s.line, s.starts[:0]
	ends := string(s.sep) + "\r\n"
	for {
		s.starts = append(s.starts, s.at)
		var cell string
		if s.at < len(s.text) && s.text[s.at] == '"' {
			if cell, err = s.quoted(); err != nil {
				return nil, 0, err
			}
		} else {
			end := strings.IndexAny(s.text[s.at:], ends)
			if end < 0 {
				end = len(s.text) - s.at
			}
			cell = s.text[s.at : s.at+end]
			if i := strings.IndexByte(cell, '"'); i >= 0 {
				return nil, 0,
					s.fault(s.at+i, "a quote stands inside a cell that is not in quotes; write it twice and put the cell in quotes")
			}
			s.at += end
		}
		rec = append(rec, cell)
		rest := s.text[s.at:]
		switch {
		case rest == "":
			return rec, line, nil
		case rest[0] == '\r' || rest[0] == '\n':
			s.at++
			if strings.HasPrefix(rest, "\r\n") {
				s.at++
			}
			s.line++
			return rec, line, nil
		}
		s.at += utf8.RuneLen(s.sep)
	}
}

// quoted reads a cell in quotes.
func (s *scanner) quoted() (string, error) {
	opened := s.at
	var b strings.Builder
	for at := opened + 1; ; {
		end := strings.IndexByte(s.text[at:], '"')
		if end < 0 {
			return "", s.fault(opened, "the quote that opens here is not closed")
		}
		b.WriteString(s.text[at : at+end])
		at += end + 1
		rest := s.text[at:]
		if strings.HasPrefix(rest, `"`) {
			b.WriteByte('"')
			at++
			continue
		}
		if rest != "" && rest[0] != '\r' && rest[0] != '\n' && !strings.HasPrefix(rest, string(s.sep)) {
			return "", s.fault(at, "something stands between a closing quote and the next separator; the quote opens at %s",
				s.place(opened))
		}
		s.at = at
		break
	}
	cell := strings.ReplaceAll(b.String(), "\r\n", "\n")
	s.line += strings.Count(cell, "\n") + strings.Count(cell, "\r")
	return cell, nil
}

// place gives the place of a byte.
func (s *scanner) place(at int) spot {
	before := s.text[:at]
	line := 1 + strings.Count(before, "\n") + strings.Count(before, "\r") - strings.Count(before, "\r\n")
	return spot{line, 1 + utf8.RuneCountInString(before[1+strings.LastIndexAny(before, "\r\n"):])}
}

func (s *scanner) fault(at int, format string, args ...any) error {
	p := s.place(at)
	return &FileError{Line: p.Line, Column: p.Column, Message: fmt.Sprintf(format, args...)}
}

// saidSeparator reads a first line that says what separates, and goes past it; 0 for none.
func (s *scanner) saidSeparator() rune {
	first, _, _ := strings.Cut(s.text, "\n")
	first = strings.TrimSuffix(first, "\r")
	if i := strings.IndexByte(first, '\r'); i >= 0 {
		first = first[:i]
	}
	if len(first) < 5 || !strings.EqualFold(first[:4], "sep=") {
		return 0
	}
	r, n := utf8.DecodeRuneInString(first[4:])
	if n != len(first)-4 || r == '"' {
		return 0
	}
	s.at, s.line = len(first), 2
	if strings.HasPrefix(s.text[s.at:], "\r\n") {
		s.at++
	}
	s.at = min(s.at+1, len(s.text))
	return r
}

// usual are the separators that are tried first, the most usual first.
var usual = []rune{',', ';', '\t', '|'}

// looked is how many records are looked at for a separator.
const looked = 50_000

// separator finds what parts a text most evenly: into as many cells as the heading has, more
// than one, in most of its records. Another sign than the usual ones has to part all of them.
func separator(text string) rune {
	best, share, width := ',', 0.0, 0
	for _, sep := range usual {
		if !strings.ContainsRune(text, sep) {
			continue
		}
		if sh, w := evenness(text, sep); w > 1 && (sh > share || sh == share && w > width) {
			best, share, width = sep, sh, w
		}
	}
	if share > 0 {
		return best
	}
	heading, _, _ := strings.Cut(text, "\n")
	for _, sep := range heading {
		if sep < 0x80 && (unicode.IsPunct(sep) || unicode.IsSymbol(sep)) && !strings.ContainsRune(`"'._-/()@+`, sep) ||
			unicode.Is(unicode.Cc, sep) && sep != '\r' || sep > 0x80 && unicode.IsPunct(sep) {
			if sh, w := evenness(text, sep); w > 1 && sh == 1 && strings.Count(text, "\n") > 1 {
				return sep
			}
		}
	}
	return best
}

// evenness gives which share of a text's records has as many cells as the heading, which counts
// itself, and how many cells that are. A fault ends what can be said.
func evenness(text string, sep rune) (share float64, width int) {
	s := scanner{text: text, sep: sep, line: 1}
	even, all := 0, 0
	for all < looked {
		rec, _, err := s.next()
		if err != nil {
			if err != io.EOF {
				all++
			}
			break
		}
		if blank(rec) {
			continue
		}
		if all++; all == 1 {
			width = len(rec)
		}
		if len(rec) == width {
			even++
		}
	}
	if all == 0 {
		return 0, 0
	}
	return float64(even) / float64(all), width
}
