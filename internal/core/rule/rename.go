package rule

import (
	"encoding/json"

	"nivot/internal/core/value"
)

// Rename puts ids in place of names (or the other way round) in everything a
// rule names: its columns, templates and, where a leaf compares with text,
// a choice column's options. The first error is given with its place.
func (r *Rule) Rename(column, template func(string) (string, error), option func(column, name string) (string, error)) error {
	n := renamer{column: column, template: template, option: option}
	n.put("/trigger/column", &r.Trigger.Column, column)
	for i := range r.Trigger.Offsets {
		n.put("/trigger/offsets", &r.Trigger.Offsets[i].Template, template)
	}
	n.condition("/condition", r.Condition)
	for i := range r.Send {
		n.condition("/send", r.Send[i].If)
		n.put("/send", &r.Send[i].Template, template)
	}
	for _, list := range [][]Address{r.To, r.Cc, r.Bcc, r.ReplyTo} {
		for i := range list {
			n.put("/to", &list[i].Column, column)
		}
	}
	return n.err
}

type renamer struct {
	column, template func(string) (string, error)
	option           func(column, name string) (string, error)
	err              error
}

func (n *renamer) put(at string, s *string, f func(string) (string, error)) {
	if *s == "" || n.err != nil {
		return
	}
	v, err := f(*s)
	if err != nil {
		n.err = fault(at, "%s", err)
		return
	}
	*s = v
}

func (n *renamer) condition(at string, c *Condition) {
	if c == nil || n.err != nil {
		return
	}
	for _, list := range [][]Condition{c.All, c.Any} {
		for i := range list {
			n.condition(at, &list[i])
		}
	}
	n.condition(at, c.Not)
	n.put(at+"/column", &c.Column, n.column)
	if c.Value != nil {
		n.operand(at, c.Column, c.Value)
	}
}

func (n *renamer) operand(at, column string, o *Operand) {
	n.put(at+"/value/column", &o.Column, n.column)
	if o.Text != nil && n.err == nil && value.Trim(*o.Text) != "" {
		// Only choice columns know options; for the others the text stays.
		if id, err := n.option(column, *o.Text); err == nil {
			o.Text = &id
		}
	}
	for i := range o.List {
		n.operand(at, column, &o.List[i])
	}
}

// Clone gives a copy that shares nothing with the rule.
func (r *Rule) Clone() (*Rule, error) {
	b, err := json.Marshal(r)
	if err != nil {
		return nil, err
	}
	return Decode(b)
}
