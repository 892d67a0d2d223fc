package rule

import (
	"fmt"

	"nivot/internal/core/value"
)

// Rename puts ids in place of names (or the other way round) in everything a
// rule names: its columns, templates and, where text stands for one, a choice
// column's options. The first error is given with its place.
func (r *Rule) Rename(column, template func(string) (string, error),
	option func(column, name string) (string, error)) error {
	n := renamer{column: column, template: template, option: option}
	n.trigger(&r.Trigger)
	n.condition("/condition", r.Condition)
	for i := range r.Send {
		at := fmt.Sprintf("/send/%d", i)
		n.condition(at+"/if", r.Send[i].If)
		n.put(at+"/template", &r.Send[i].Template, template)
	}
	n.addresses("/to", r.To)
	n.addresses("/cc", r.Cc)
	n.addresses("/bcc", r.Bcc)
	n.addresses("/replyTo", r.ReplyTo)
	if r.Then != nil {
		for i := range r.Then.Steps {
			st, at := &r.Then.Steps[i], fmt.Sprintf("/then/steps/%d", i)
			n.put(at+"/template", &st.Template, template)
			n.addresses(at+"/to", st.To)
			n.addresses(at+"/cc", st.Cc)
			n.addresses(at+"/bcc", st.Bcc)
		}
		n.condition("/then/stopIf", r.Then.StopIf)
	}
	return n.err
}

func (n *renamer) trigger(t *Trigger) {
	n.put("/trigger/column", &t.Column, n.column)
	for i := range t.Offsets {
		n.put(fmt.Sprintf("/trigger/offsets/%d/template", i), &t.Offsets[i].Template, n.template)
	}
	for i := range t.Columns {
		n.put(fmt.Sprintf("/trigger/columns/%d", i), &t.Columns[i], n.column)
	}
	for _, l := range []struct {
		name  string
		level *Level
	}{{"limit", t.Limit}, {"rearm", t.Rearm}} {
		if l.level != nil {
			n.put("/trigger/"+l.name+"/column", &l.level.Column, n.column)
		}
	}
	for _, list := range [][]Operand{t.To, t.From} {
		for i := range list {
			n.operand("/trigger", t.Column, &list[i])
		}
	}
}

func (n *renamer) addresses(at string, list []Address) {
	for i := range list {
		n.put(fmt.Sprintf("%s/%d/column", at, i), &list[i].Column, n.column)
	}
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
	for i := range c.All {
		n.condition(fmt.Sprintf("%s/all/%d", at, i), &c.All[i])
	}
	for i := range c.Any {
		n.condition(fmt.Sprintf("%s/any/%d", at, i), &c.Any[i])
	}
	n.condition(at+"/not", c.Not)
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

// Rename puts ids in place of names in a condition that stands alone.
func (c *Condition) Rename(column func(string) (string, error),
	option func(column, name string) (string, error)) error {
	n := renamer{column: column, option: option}
	n.condition("", c)
	return n.err
}
