package formula

import (
	"strings"

	"github.com/shopspring/decimal"

	"nivot/internal/core/calendar"
	"nivot/internal/core/value"
)

// through gives the first operand that is unreadable, else the first that is
// empty: what an operation on it comes to.
func through(vs ...value.Value) (value.Value, bool) {
	for _, v := range vs {
		if v.IsUnreadable() {
			return v, true
		}
	}
	for _, v := range vs {
		if v.IsEmpty() {
			return value.Value{}, true
		}
	}
	return value.Value{}, false
}

// sum and product of trends.
func (t trend) flip() trend {
	switch t {
	case up:
		return down
	case down:
		return up
	}
	return t
}

func (t trend) plus(o trend) trend {
	switch {
	case t == level:
		return o
	case o == level || t == o && t != oneWay:
		return t
	}
	return anyhow
}

func (t trend) times(o trend) trend {
	switch {
	case t == level && o == level:
		return level
	case t == level && o != anyhow || o == level && t != anyhow:
		return oneWay
	}
	return anyhow
}

// steady is the trend of something that depends on its parts anyhow.
func steady(ns ...*node) trend {
	for _, n := range ns {
		if n.trend != level {
			return anyhow
		}
	}
	return level
}

func (p *parser) want(n *node, types ...value.Type) error {
	for _, t := range types {
		if n.typ == t {
			return nil
		}
	}
	words := make([]string, len(types))
	for i, t := range types {
		words[i] = string(t)
	}
	return p.fail(n.at, "a %s is wanted here, and this is a %s", strings.Join(words, " or "), n.typ)
}

func (p *parser) both(word string, at int, a, b *node) (*node, error) {
	for _, n := range []*node{a, b} {
		if err := p.want(n, value.YesNo); err != nil {
			return nil, err
		}
	}
	decisive := word == "or"
	return &node{typ: value.YesNo, at: at, trend: steady(a, b), eval: func(c *Context) value.Value {
		x, y := a.eval(c), b.eval(c)
		for _, v := range []value.Value{x, y} {
			if v.IsFilled() && v.Yes == decisive {
				return value.OfYesNo(decisive)
			}
		}
		if v, ok := through(x, y); ok {
			return v
		}
		return value.OfYesNo(!decisive)
	}}, nil
}

func (p *parser) negate(at int, n *node) (*node, error) {
	if err := p.want(n, value.YesNo); err != nil {
		return nil, err
	}
	return &node{typ: value.YesNo, at: at, trend: n.trend.flip(), eval: func(c *Context) value.Value {
		v := n.eval(c)
		if v.IsFilled() {
			v.Yes = !v.Yes
		}
		return v
	}}, nil
}

// compare compares two values of a kind. Against something empty only "is not"
// is so, as in conditions.
func (p *parser) compare(op string, at int, a, b *node) (*node, error) {
	day := func(t value.Type) bool { return t == value.Date || t == value.Moment }
	if a.typ != b.typ && !(day(a.typ) && day(b.typ)) {
		return nil, p.fail(at, "a %s cannot be compared with a %s", a.typ, b.typ)
	}
	if a.typ == value.YesNo && strings.ContainsAny(op, "<>") && op != "<>" {
		return nil, p.fail(at, "yes and no have no order")
	}
	tr := anyhow
	if t := a.trend.plus(b.trend.flip()); t != anyhow && strings.ContainsAny(op, "<>") && op != "<>" {
		if tr = t; t == up || t == down {
			tr = oneWay
		}
	} else if t == level {
		tr = level
	}
	return &node{typ: value.YesNo, at: at, trend: tr, eval: func(c *Context) value.Value {
		x, y := a.eval(c), b.eval(c)
		if x.IsUnreadable() {
			return x
		}
		if y.IsUnreadable() {
			return y
		}
		n, ok := value.Compare(x, y)
		yes := false
		switch op {
		case "=", "==":
			yes = ok && n == 0
		case "!=", "<>":
			yes = !ok || n != 0
		case "<":
			yes = ok && n < 0
		case "<=":
			yes = ok && n <= 0
		case ">":
			yes = ok && n > 0
		case ">=":
			yes = ok && n >= 0
		}
		return value.OfYesNo(yes)
	}}, nil
}

func (p *parser) operate(op string, at int, a, b *node) (*node, error) {
	switch {
	case op == "&":
		return p.join(at, a, b), nil
	case a.typ == value.Number && b.typ == value.Number:
		return arithmetic(op, at, a, b), nil
	case a.typ == value.Date && b.typ == value.Number && (op == "+" || op == "-"):
		t := a.trend.plus(b.trend)
		if op == "-" {
			t = a.trend.plus(b.trend.flip())
		}
		return &node{typ: value.Date, at: at, trend: t, eval: func(c *Context) value.Value {
			x, y := a.eval(c), b.eval(c)
			if v, ok := through(x, y); ok {
				return v
			}
			if op == "-" {
				y.Num = y.Num.Neg()
			}
			return addDays(x, y.Num)
		}}, nil
	case op == "-" && a.typ == value.Date && b.typ == value.Date:
		return &node{typ: value.Number, at: at, trend: a.trend.plus(b.trend.flip()), eval: func(c *Context) value.Value {
			x, y := a.eval(c), b.eval(c)
			if v, ok := through(x, y); ok {
				return v
			}
			return value.OfNumber(decimal.NewFromInt(int64(x.Wall.Day) - int64(y.Wall.Day)))
		}}, nil
	}
	hint := ""
	if a.typ == value.Moment || b.typ == value.Moment {
		hint = "; add_days, add_hours, hours_since and hours_until count with dates and times"
	}
	return nil, p.fail(at, "%s does not go between a %s and a %s%s", op, a.typ, b.typ, hint)
}

// tooLong stands for a result that has grown past what a number may hold.
const maxDigits = 120

func arithmetic(op string, at int, a, b *node) *node {
	t := a.trend.plus(b.trend)
	switch op {
	case "-":
		t = a.trend.plus(b.trend.flip())
	case "*":
		t = a.trend.times(b.trend)
	case "/":
		if t = anyhow; b.trend == level {
			t = a.trend.times(level)
		}
	}
	return &node{typ: value.Number, at: at, trend: t, eval: func(c *Context) value.Value {
		x, y := a.eval(c), b.eval(c)
		if v, ok := through(x, y); ok {
			return v
		}
		var d decimal.Decimal
		switch op {
		case "+":
			d = x.Num.Add(y.Num)
		case "-":
			d = x.Num.Sub(y.Num)
		case "*":
			d = x.Num.Mul(y.Num)
		case "/":
			if y.Num.IsZero() {
				return value.Raw(value.Number, "divided by zero")
			}
			d = x.Num.Div(y.Num)
		}
		if d.NumDigits() > maxDigits {
			return value.Raw(value.Number, "too large")
		}
		return value.OfNumber(d)
	}}
}

// join puts texts together; something empty adds nothing.
func (p *parser) join(at int, a, b *node) *node {
	return &node{typ: value.Text, at: at, trend: steady(a, b), eval: func(c *Context) value.Value {
		x, y := a.eval(c), b.eval(c)
		if x.IsUnreadable() {
			return x
		}
		if y.IsUnreadable() {
			return y
		}
		s := c.write(x) + c.write(y)
		if len(s) > 32<<10 {
			return value.Raw(value.Text, "too long")
		}
		if s == "" {
			return value.Value{}
		}
		return value.OfText(s)
	}}
}

// write writes a value inside a text.
func (c *Context) write(v value.Value) string {
	if !v.IsFilled() {
		return ""
	}
	switch v.Type {
	case value.Number:
		return value.FormatNumber(v.Num, value.NumberFormat{}, c.Locale)
	case value.Date:
		return value.FormatDay(v.Wall.Day, value.Medium, c.Locale, "")
	case value.Moment:
		return value.FormatMoment(v.Wall, value.Medium, c.Locale, "")
	case value.YesNo:
		return c.Locale.YesNo(v.Yes)
	}
	return v.Str
}

// Days further away than this are unreadable: no calendar needs them.
const maxDay = 4_000_000

func addDays(v value.Value, n decimal.Decimal) value.Value {
	whole := n.Floor()
	if whole.Abs().GreaterThan(decimal.NewFromInt(maxDay)) {
		return value.Raw(v.Type, "too far away")
	}
	v.Wall.Day += value.Day(whole.IntPart())
	return inRange(v)
}

func inRange(v value.Value) value.Value {
	if y, _, _ := v.Wall.Day.Date(); y < 1 || y > 9999 {
		return value.Raw(v.Type, "too far away")
	}
	return v
}

// elapsed gives the seconds between two wall times of the sheet's zone.
func elapsed(c *Context, from, to value.Wall) decimal.Decimal {
	a, b := calendar.Resolve(from, c.Zone), calendar.Resolve(to, c.Zone)
	return decimal.NewFromInt(int64(b.Sub(a).Seconds()))
}
