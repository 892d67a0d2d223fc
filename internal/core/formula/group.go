package formula

import (
	"slices"
	"strings"

	"nivot/internal/core/value"
)

// The functions over the columns of a group, in the order in which they are
// offered. Latest is the value in its last column, whether there is one or not.
const (
	Latest       = "latest"
	LatestFilled = "latest_filled"
	LatestName   = "latest_name"
	CountFilled  = "count_filled"
)

// GroupFunctions lists the functions over a group.
func GroupFunctions() []string { return []string{Latest, LatestFilled, LatestName, CountFilled} }

// OfGroup writes a formula that calls a function over a group.
func OfGroup(function, group string) string {
	return function + `("` + strings.ReplaceAll(group, `"`, `""`) + `")`
}

func addGroups() {
	grouped := func(build func(members []Column, cells []*node, at int) *node) func(*parser, int,
		[]*node) (*node, error) {
		return func(p *parser, at int, args []*node) (*node, error) {
			members, err := p.group(args[0])
			if err != nil {
				return nil, err
			}
			cells := make([]*node, len(members))
			for i := range members {
				cells[i] = p.cell(&members[i], at)
			}
			return build(members, cells, at), nil
		}
	}
	add(Latest+`("Group")`, "the value in the last of the columns that belong together", 1, 1, Still,
		grouped(func(_ []Column, cells []*node, _ int) *node { return cells[len(cells)-1] }))
	add(LatestFilled+`("Group")`, "the value in the last of the columns that belong together in which there is something",
		1, 1, Still,
		grouped(func(_ []Column, cells []*node, at int) *node {
			return &node{typ: cells[0].typ, at: at, trend: steady(cells...), eval: func(c *Context) value.Value {
				for _, n := range slices.Backward(cells) {
					if v := n.eval(c); !v.IsEmpty() {
						return v
					}
				}
				return value.Value{}
			}}
		}))
	add(LatestName+`("Group")`, "the name of the last of the columns that belong together", 1, 1, Still,
		grouped(func(members []Column, _ []*node, at int) *node {
			name := textOf(members[len(members)-1].Label)
			return &node{typ: value.Text, at: at, eval: func(*Context) value.Value { return name }}
		}))
	add(CountFilled+`("Group")`, "in how many of the columns that belong together there is something", 1, 1, Still,
		grouped(func(_ []Column, cells []*node, at int) *node {
			return &node{typ: value.Number, at: at, trend: steady(cells...), eval: func(c *Context) value.Value {
				n := int64(0)
				for _, cell := range cells {
					v := cell.eval(c)
					if v.IsUnreadable() {
						return v
					}
					if v.IsFilled() {
						n++
					}
				}
				return integer(n)
			}}
		}))
}

// group gives the columns of the group that an argument names, in the sheet's
// order.
func (p *parser) group(arg *node) ([]Column, error) {
	if arg.fixed == nil || arg.typ != value.Text {
		return nil, p.fail(arg.at, `the name of a group is wanted here, in quotes, such as "Paid"`)
	}
	name := value.Fold(arg.fixed.Str)
	var members []Column
	var known []string
	for _, c := range p.scope {
		switch {
		case c.Group == "":
		case value.Fold(c.Group) == name:
			members = append(members, c)
		case !slices.ContainsFunc(known, func(k string) bool { return value.Fold(k) == value.Fold(c.Group) }):
			known = append(known, c.Group)
		}
	}
	if len(members) == 0 || name == "" {
		there := ""
		if len(known) > 0 {
			there = "; there are " + strings.Join(known, ", ")
		}
		return nil, p.fail(arg.at, "no columns belong together as %q%s", arg.fixed.Str, there)
	}
	var first *Column
	for i := range members {
		c := &members[i]
		switch {
		case c.Open && c.Name == "":
			return nil, p.fail(arg.at, "%s belongs to it and is not calculated before this formula", c.Label)
		case c.Open:
		case first == nil:
			first = c
		case c.Type != first.Type:
			return nil, p.fail(arg.at, "the columns of %s are not of one type: %s is a %s, %s a %s", c.Group, first.Label,
				first.Type, c.Label, c.Type)
		}
	}
	return members, nil
}

// RenameGroups puts new names in place of groups' old ones, which are folded, in
// a formula's source. What cannot be read stays as it is.
func RenameGroups(src string, names map[string]string) string {
	l := lexer{src: src}
	var b strings.Builder
	copied := 0
	var before [2]token // the two pieces that stand before the one looked at
	for {
		t, err := l.next()
		if err != nil {
			return src
		}
		if t.kind == end {
			b.WriteString(src[copied:])
			return b.String()
		}
		calls := before[0].kind == name && slices.Contains(GroupFunctions(), strings.ToLower(before[0].str)) &&
			before[1].kind == sign && before[1].str == "("
		if to, ok := names[value.Fold(t.str)]; ok && calls && t.kind == text {
			b.WriteString(src[copied:t.at] + `"` + strings.ReplaceAll(to, `"`, `""`) + `"`)
			copied = l.pos
		}
		before = [2]token{before[1], t}
	}
}
