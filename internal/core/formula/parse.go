package formula

import (
	"strings"

	"github.com/shopspring/decimal"

	"nivot/internal/core/value"
)

// node is a checked expression. eval gives its value for a row; an empty or
// unreadable value goes through most operations as it is.
type node struct {
	typ   value.Type
	at    int
	trend trend // how its value moves while the row rests
	eval  func(*Context) value.Value
	fixed *value.Value // of a literal
}

type parser struct {
	lexer
	tok   token
	scope Scope
	uses  map[string]bool
	move  Moving
	depth int
	nodes int
}

// Bounds of an expression, against formulas that only cost time.
const (
	maxDepth = 40
	maxNodes = 400
)

func (p *parser) step() (err error) {
	p.tok, err = p.next()
	return err
}

func (p *parser) is(signs ...string) bool {
	if p.tok.kind != sign {
		return false
	}
	for _, s := range signs {
		if p.tok.str == s {
			return true
		}
	}
	return false
}

func (p *parser) word(w string) bool { return p.tok.kind == name && strings.EqualFold(p.tok.str, w) }

// expression is or of ands of nots of comparisons of sums of products.
func (p *parser) expression() (*node, error) {
	return p.nested(p.tok.at, func() (*node, error) {
		return p.logic("or", func() (*node, error) { return p.logic("and", p.not) })
	})
}

// nested reads a part one level deeper; at is where it begins.
func (p *parser) nested(at int, part func() (*node, error)) (*node, error) {
	if p.depth++; p.depth > maxDepth {
		return nil, p.fail(at, "the formula is nested too deeply")
	}
	defer func() { p.depth-- }()
	return part()
}

func (p *parser) logic(word string, part func() (*node, error)) (*node, error) {
	left, err := part()
	for err == nil && p.word(word) {
		at := p.tok.at
		if err = p.step(); err != nil {
			break
		}
		var right *node
		if right, err = part(); err == nil {
			left, err = p.both(word, at, left, right)
		}
	}
	return left, err
}

func (p *parser) not() (*node, error) {
	if !p.word("not") {
		return p.comparison()
	}
	at := p.tok.at
	if err := p.step(); err != nil {
		return nil, err
	}
	n, err := p.nested(at, p.not)
	if err != nil {
		return nil, err
	}
	return p.negate(at, n)
}

func (p *parser) comparison() (*node, error) {
	left, err := p.chain([]string{"&"}, p.sum)
	if err != nil || !p.is("=", "==", "!=", "<>", "<", "<=", ">", ">=") {
		return left, err
	}
	op, at := p.tok.str, p.tok.at
	if err := p.step(); err != nil {
		return nil, err
	}
	right, err := p.chain([]string{"&"}, p.sum)
	if err != nil {
		return nil, err
	}
	if p.is("=", "==", "!=", "<>", "<", "<=", ">", ">=") {
		return nil, p.fail(p.tok.at, "two comparisons need and between them")
	}
	return p.compare(op, at, left, right)
}

func (p *parser) sum() (*node, error) {
	return p.chain([]string{"+", "-"}, func() (*node, error) { return p.chain([]string{"*", "/"}, p.unary) })
}

func (p *parser) chain(ops []string, part func() (*node, error)) (*node, error) {
	left, err := part()
	for err == nil && p.is(ops...) {
		op, at := p.tok.str, p.tok.at
		if err = p.step(); err != nil {
			break
		}
		var right *node
		if right, err = part(); err == nil {
			left, err = p.operate(op, at, left, right)
		}
	}
	return left, err
}

func (p *parser) unary() (*node, error) {
	if !p.is("-") {
		return p.primary()
	}
	at := p.tok.at
	if err := p.step(); err != nil {
		return nil, err
	}
	n, err := p.nested(at, p.unary)
	if err != nil {
		return nil, err
	}
	zero := value.OfNumber(decimal.Zero)
	return p.operate("-", at, p.literal(at, zero), n)
}

func (p *parser) literal(at int, v value.Value) *node {
	return &node{typ: v.Type, at: at, eval: func(*Context) value.Value { return v }, fixed: &v}
}

func (p *parser) primary() (*node, error) {
	if p.nodes++; p.nodes > maxNodes {
		return nil, p.fail(p.tok.at, "the formula has too many parts")
	}
	t := p.tok
	if err := p.step(); err != nil {
		return nil, err
	}
	switch {
	case t.kind == number:
		d, err := decimal.NewFromString(t.str)
		if err != nil || len(t.str) > 60 {
			return nil, p.fail(t.at, "%q is not a number", t.str)
		}
		return p.literal(t.at, value.OfNumber(d)), nil
	case t.kind == text:
		v := value.OfText(t.str)
		if t.str == "" {
			v = value.Value{Type: value.Text}
		}
		n := p.literal(t.at, v)
		n.typ = value.Text
		return n, nil
	case t.kind == sign && t.str == "(":
		n, err := p.expression()
		if err != nil {
			return nil, err
		}
		return n, p.close(t.at)
	case t.kind == name && p.is("("):
		return p.call(t)
	case t.kind == name && (strings.EqualFold(t.str, "true") || strings.EqualFold(t.str, "yes")):
		return p.literal(t.at, value.OfYesNo(true)), nil
	case t.kind == name && (strings.EqualFold(t.str, "false") || strings.EqualFold(t.str, "no")):
		return p.literal(t.at, value.OfYesNo(false)), nil
	case t.kind == name:
		return p.column(t)
	case t.kind == end:
		return nil, p.fail(t.at, "the formula ends where a value is wanted")
	}
	return nil, p.fail(t.at, "%q stands where a value is wanted", t.str)
}

func (p *parser) close(open int) error {
	if !p.is(")") {
		if p.tok.kind == end {
			return p.fail(open, "this bracket is not closed")
		}
		return p.fail(p.tok.at, "%q stands where ) or a sign is wanted", p.tok.str)
	}
	return p.step()
}

func (p *parser) column(t token) (*node, error) {
	c, ok := p.scope.Find(strings.ToLower(t.str))
	if !ok {
		return nil, p.fail(t.at, "there is no column %s%s", t.str, p.scope.near(t.str))
	}
	return p.cell(c, t.at), nil
}

// cell is the value of a column.
func (p *parser) cell(c *Column, at int) *node {
	p.uses[c.ID] = true
	n := &node{typ: c.Type, at: at, trend: c.trend}
	if c.Moving > p.move {
		p.move = c.Moving
	}
	switch c.Type {
	case value.Choice, value.Email, value.File:
		n.typ = value.Text
	}
	id := c.ID
	n.eval = func(x *Context) value.Value {
		v := x.Cell(id)
		if v.IsFilled() {
			v.Type = n.typ
		}
		return v
	}
	return n
}

func (p *parser) call(t token) (*node, error) {
	f, ok := functions[strings.ToLower(t.str)]
	if !ok {
		return nil, p.fail(t.at, "there is no function %s; there are %s", t.str, functionNames())
	}
	open := p.tok.at
	if err := p.step(); err != nil {
		return nil, err
	}
	var args []*node
	for !p.is(")") {
		if len(args) > 0 {
			if !p.is(",") {
				return nil, p.close(open)
			}
			if err := p.step(); err != nil {
				return nil, err
			}
		}
		a, err := p.expression()
		if err != nil {
			return nil, err
		}
		args = append(args, a)
	}
	if err := p.step(); err != nil {
		return nil, err
	}
	if len(args) < f.min || len(args) > f.max && f.max >= 0 {
		return nil, p.fail(t.at, "%s is written %s", f.name, f.usage)
	}
	if f.moving > p.move {
		p.move = f.moving
	}
	return f.build(p, t.at, args)
}
