package template

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// sentences parts inline nodes at the ends of sentences: behind a full stop, a
// question or exclamation mark or an ellipsis of the text itself (not of a value),
// with the quotes and brackets that close there, before a space or the end; and behind a line break. The
// space stands with the sentence that it follows.
func sentences(nodes []Node) (out [][]Node) {
	var now []Node
	end := func() {
		if len(now) > 0 {
			out, now = append(out, now), nil
		}
	}
	for _, n := range nodes {
		if n.Type != TextNode {
			now = append(now, n)
			if n.Type == HardBreak {
				end()
			}
			continue
		}
		for text := n.Text; text != ""; {
			k := sentenceEnd(text)
			piece := n
			piece.Text = text[:k]
			// The space behind a sentence that ended with the node before.
			if len(now) == 0 && len(out) > 0 && strings.TrimSpace(piece.Text) == "" {
				last := len(out) - 1
				out[last] = append(out[last], piece)
			} else {
				now = append(now, piece)
				if k < len(text) || endsSentence(text) {
					end()
				}
			}
			text = text[k:]
		}
	}
	end()
	return out
}

// sentenceEnd gives where the first sentence of a text ends, behind its space; the
// text's length where it does not end before.
func sentenceEnd(s string) int {
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		i += n
		if !stops(r) {
			continue
		}
		for i < len(s) {
			r, n := utf8.DecodeRuneInString(s[i:])
			if !stops(r) && !closes(r) {
				break
			}
			i += n
		}
		space := i
		for i < len(s) {
			r, n := utf8.DecodeRuneInString(s[i:])
			if !unicode.IsSpace(r) {
				break
			}
			i += n
		}
		if i > space && i < len(s) || i == len(s) || wide(r) {
			return i
		}
	}
	return len(s)
}

func endsSentence(s string) bool {
	s = strings.TrimRightFunc(s, func(r rune) bool { return unicode.IsSpace(r) || closes(r) })
	r, _ := utf8.DecodeLastRuneInString(s)
	return stops(r)
}

func stops(r rune) bool { return strings.ContainsRune(".!?…؟۔।", r) || wide(r) }

// wide are the marks that end a sentence without a space behind them.
func wide(r rune) bool { return strings.ContainsRune("。！？", r) }

func closes(r rune) bool { return strings.ContainsRune(`"')]}”’»」』`, r) }

// omits lists the fields of inline nodes for whose want their sentence is left out.
func omits(nodes []Node) (out []*Field) {
	for i := range nodes {
		for _, f := range nodes[i].fields() {
			if f.Omit {
				out = append(out, f)
			}
		}
	}
	return out
}
