package formula

import (
	"sort"
	"strings"
	"time"

	"github.com/shopspring/decimal"

	"nivot/internal/core/calendar"
	"nivot/internal/core/value"
)

// Function describes a function for whoever writes a formula.
type Function struct {
	Name, Usage, What string
}

// Functions lists what formulas may call.
func Functions() []Function {
	out := make([]Function, 0, len(functions))
	for _, f := range functions {
		out = append(out, Function{f.name, f.usage, f.what})
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

type function struct {
	name, usage, what string
	min, max          int // arguments; max -1 is without end
	moving            Moving
	build             func(p *parser, at int, args []*node) (*node, error)
}

var functions = map[string]*function{}

func functionNames() string {
	names := make([]string, 0, len(functions))
	for n := range functions {
		names = append(names, n)
	}
	sort.Strings(names)
	return strings.Join(names, ", ")
}

func add(usage, what string, min, max int, m Moving, build func(p *parser, at int, args []*node) (*node, error)) {
	n, _, _ := strings.Cut(usage, "(")
	functions[n] = &function{n, usage, what, min, max, m, build}
}

var dated = []value.Type{value.Date, value.Moment}

// simple builds a function whose arguments have fixed types and which gives
// something empty or unreadable back as it is.
func simple(result value.Type, tr func(args []*node) trend, f func(c *Context, v []value.Value) value.Value,
	types ...[]value.Type) func(*parser, int, []*node) (*node, error) {
	return func(p *parser, at int, args []*node) (*node, error) {
		for i, a := range args {
			if err := p.want(a, types[min(i, len(types)-1)]...); err != nil {
				return nil, err
			}
		}
		return &node{typ: result, at: at, trend: tr(args), eval: func(c *Context) value.Value {
			vs := make([]value.Value, len(args))
			for i, a := range args {
				vs[i] = a.eval(c)
			}
			if v, ok := through(vs...); ok {
				return v
			}
			return f(c, vs)
		}}, nil
	}
}

func of(t ...value.Type) []value.Type { return t }

// follows is the trend of a function that keeps its first argument's order.
func follows(args []*node) trend {
	if steady(args[1:]...) != level {
		return anyhow
	}
	return args[0].trend
}

func rests(args []*node) trend { return steady(args...) }

// against is the trend of something counted from now to a date, or back.
func against(t trend) func([]*node) trend {
	return func(args []*node) trend {
		if args[0].trend == level {
			return t
		}
		return anyhow
	}
}

func integer(n int64) value.Value { return value.OfNumber(decimal.NewFromInt(n)) }

func textOf(s string) value.Value {
	if value.Trim(s) == "" {
		return value.Value{}
	}
	return value.OfText(s)
}

func init() {
	addClock()
	addText()
	addNumbers()
	addChoices()
	addGroups()
}

func addClock() {
	now := func(typ value.Type, eval func(*Context) value.Value) func(*parser, int, []*node) (*node, error) {
		return func(_ *parser, at int, _ []*node) (*node, error) {
			return &node{typ: typ, at: at, trend: up, eval: eval}, nil
		}
	}
	add("today()", "the day it is", 0, 0, Daily,
		now(value.Date, func(c *Context) value.Value { return value.OfDay(c.Now.Day) }))
	add("now()", "the date and time it is", 0, 0, Always,
		now(value.Moment, func(c *Context) value.Value { return value.OfMoment(c.Now) }))
	add("days_until(date)", "how many days are left until a date; negative once it is past", 1, 1, Daily,
		simple(value.Number, against(down),
			func(c *Context, v []value.Value) value.Value { return integer(int64(v[0].Wall.Day) - int64(c.Now.Day)) }, dated))
	add("days_since(date)", "how many days have passed since a date", 1, 1, Daily, simple(value.Number, against(up),
		func(c *Context, v []value.Value) value.Value { return integer(int64(c.Now.Day) - int64(v[0].Wall.Day)) }, dated))
	add("working_days_until(date)",
		"how many working days come after today, the date's own included; negative once it is past", 1, 1, Daily,
		simple(value.Number, against(down), func(c *Context, v []value.Value) value.Value {
			return integer(int64(c.Calendar.Between(c.Now.Day, v[0].Wall.Day)))
		}, dated))
	hours := func(per int64, since bool) func(*Context, []value.Value) value.Value {
		return func(c *Context, v []value.Value) value.Value {
			d := elapsed(c, v[0].Wall, c.Now)
			if !since {
				d = d.Neg()
			}
			return value.OfNumber(d.Div(decimal.NewFromInt(per)))
		}
	}
	add("hours_until(moment)", "how many hours are left until a date and time", 1, 1, Always,
		simple(value.Number, against(down), hours(3600, false), of(value.Moment)))
	add("hours_since(moment)", "how many hours have passed since a date and time", 1, 1, Always,
		simple(value.Number, against(up), hours(3600, true), of(value.Moment)))
	add("add_days(date, n)", "a date n days later, or earlier where n is negative", 2, 2, Still,
		func(p *parser, at int, args []*node) (*node, error) {
			return simple(args[0].typ, follows, func(_ *Context, v []value.Value) value.Value {
				return addDays(v[0], v[1].Num)
			},
				dated, of(value.Number))(p, at, args)
		})
	add("add_months(date, n)", "a date n months later, clamped to the month's end", 2, 2, Still,
		func(p *parser, at int, args []*node) (*node, error) {
			return simple(args[0].typ, follows, func(_ *Context, v []value.Value) value.Value {
				n := v[1].Num.Floor()
				if n.Abs().GreaterThan(decimal.NewFromInt(120000)) {
					return value.Raw(v[0].Type, "too far away")
				}
				v[0].Wall.Day = v[0].Wall.Day.AddMonths(int(n.IntPart()))
				return inRange(v[0])
			}, dated, of(value.Number))(p, at, args)
		})
	add("add_working_days(date, n)", "the n-th working day after a date, or before it where n is negative", 2, 2, Still,
		simple(value.Date, follows, func(c *Context, v []value.Value) value.Value {
			n := v[1].Num.Floor()
			if n.Abs().GreaterThan(decimal.NewFromInt(20000)) {
				return value.Raw(value.Date, "too far away")
			}
			return inRange(value.OfDay(c.Calendar.Add(v[0].Wall.Day, int(n.IntPart()))))
		}, dated, of(value.Number)))
	add("add_hours(moment, n)", "a date and time n hours later", 2, 2, Still,
		simple(value.Moment, follows, func(c *Context, v []value.Value) value.Value {
			s := v[1].Num.Mul(decimal.NewFromInt(3600)).Floor()
			if s.Abs().GreaterThan(decimal.NewFromInt(1e9)) {
				return value.Raw(value.Moment, "too far away")
			}
			at := calendar.Resolve(v[0].Wall, c.Zone).Add(time.Duration(s.IntPart()) * time.Second)
			return inRange(value.OfMoment(value.WallAt(at.In(c.Zone))))
		}, of(value.Moment), of(value.Number)))
	for _, part := range []struct {
		usage, what string
		f           func(d value.Day) int64
	}{
		{"year(date)", "the year of a date", func(d value.Day) int64 { y, _, _ := d.Date(); return int64(y) }},
		{"month(date)", "the month of a date, 1 to 12", func(d value.Day) int64 { _, m, _ := d.Date(); return int64(m) }},
		{"day(date)", "the day of the month of a date", func(d value.Day) int64 { _, _, dd := d.Date(); return int64(dd) }},
		{"weekday(date)", "the day of the week of a date, 1 for Monday to 7 for Sunday",
			func(d value.Day) int64 { return int64(d.Weekday()+6)%7 + 1 }},
	} {
		add(part.usage, part.what, 1, 1, Still, simple(value.Number, rests, func(_ *Context, v []value.Value) value.Value {
			return integer(part.f(v[0].Wall.Day))
		}, dated))
	}
}

func addText() {
	word := func(last bool) func(*Context, []value.Value) value.Value {
		return func(_ *Context, v []value.Value) value.Value {
			w := strings.Fields(v[0].Str)
			if len(w) == 0 {
				return value.Value{}
			}
			if last {
				return value.OfText(w[len(w)-1])
			}
			return value.OfText(w[0])
		}
	}
	one := func(f func(string) string) func(*Context, []value.Value) value.Value {
		return func(_ *Context, v []value.Value) value.Value { return textOf(f(v[0].Str)) }
	}
	str := of(value.Text)
	add("first_word(text)", "a text's first word", 1, 1, Still, simple(value.Text, rests, word(false), str))
	add("last_word(text)", "a text's last word", 1, 1, Still, simple(value.Text, rests, word(true), str))
	add("lower(text)", "a text in lower case", 1, 1, Still, simple(value.Text, rests, one(strings.ToLower), str))
	add("upper(text)", "a text in capitals", 1, 1, Still, simple(value.Text, rests, one(strings.ToUpper), str))
	add("trim(text)", "a text without outer space, and with single spaces inside", 1, 1, Still,
		simple(value.Text, rests, one(func(s string) string { return strings.Join(strings.Fields(s), " ") }), str))
	holds := func(f func(s, part string) bool) func(*Context, []value.Value) value.Value {
		return func(_ *Context, v []value.Value) value.Value {
			return value.OfYesNo(f(value.Fold(v[0].Str), value.Fold(v[1].Str)))
		}
	}
	add("contains(text, part)", "whether a text holds another, without case", 2, 2, Still,
		simple(value.YesNo, rests, holds(strings.Contains), str))
	add("starts_with(text, part)", "whether a text begins with another, without case", 2, 2, Still,
		simple(value.YesNo, rests, holds(strings.HasPrefix), str))
	add("ends_with(text, part)", "whether a text ends with another, without case", 2, 2, Still,
		simple(value.YesNo, rests, holds(strings.HasSuffix), str))
	add("length(text)", "how many characters a text has", 1, 1, Still,
		simple(value.Number, rests, func(_ *Context, v []value.Value) value.Value {
			return integer(int64(len([]rune(v[0].Str))))
		}, str))
}

func addNumbers() {
	num := of(value.Number)
	add("round(n, digits)", "a number rounded to so many digits (none unless given), halves away from zero", 1, 2, Still,
		simple(value.Number, follows, func(_ *Context, v []value.Value) value.Value {
			digits := int64(0)
			if len(v) == 2 {
				if digits = v[1].Num.IntPart(); digits < -12 || digits > 12 {
					return value.Raw(value.Number, "digits go from -12 to 12")
				}
			}
			return value.OfNumber(v[0].Num.Round(int32(digits)))
		}, num))
	one := func(f func(decimal.Decimal) decimal.Decimal) func(*Context, []value.Value) value.Value {
		return func(_ *Context, v []value.Value) value.Value { return value.OfNumber(f(v[0].Num)) }
	}
	add("floor(n)", "the whole number at or below", 1, 1, Still, simple(value.Number, follows, one(decimal.Decimal.Floor),
		num))
	add("ceil(n)", "the whole number at or above", 1, 1, Still, simple(value.Number, follows, one(decimal.Decimal.Ceil),
		num))
	add("abs(n)", "a number without its sign", 1, 1, Still, simple(value.Number, rests, one(decimal.Decimal.Abs), num))
	pick := func(sign int) func(*Context, []value.Value) value.Value {
		return func(_ *Context, v []value.Value) value.Value {
			best := v[0]
			for _, x := range v[1:] {
				if x.Num.Cmp(best.Num)*sign > 0 {
					best = x
				}
			}
			return best
		}
	}
	add("min(n, ...)", "the smallest of several numbers", 1, -1, Still, simple(value.Number, rests, pick(-1), num))
	add("max(n, ...)", "the largest of several numbers", 1, -1, Still, simple(value.Number, rests, pick(1), num))
}

func addChoices() {
	add("empty(x)", "whether there is nothing", 1, 1, Still, func(_ *parser, at int, args []*node) (*node, error) {
		return &node{typ: value.YesNo, at: at, trend: steady(args...), eval: func(c *Context) value.Value {
			v := args[0].eval(c)
			if v.IsUnreadable() {
				return v
			}
			return value.OfYesNo(v.IsEmpty())
		}}, nil
	})
	add("if(condition, then, else)",
		"one of two values; the second where the condition is empty, nothing where there is no second", 2, 3, Still,
		func(p *parser, at int, args []*node) (*node, error) {
			if err := p.want(args[0], value.YesNo); err != nil {
				return nil, err
			}
			if len(args) == 3 && args[1].typ != args[2].typ {
				return nil, p.fail(args[2].at, "both values of if are of one type, and this is a %s beside a %s", args[2].typ,
					args[1].typ)
			}
			return &node{typ: args[1].typ, at: at, trend: steady(args...), eval: func(c *Context) value.Value {
				v := args[0].eval(c)
				switch {
				case v.IsUnreadable():
					return v
				case v.IsFilled() && v.Yes:
					return args[1].eval(c)
				case len(args) == 3:
					return args[2].eval(c)
				}
				return value.Value{}
			}}, nil
		})
	add("coalesce(x, ...)", "the first of several values that is not empty", 1, -1, Still,
		func(p *parser, at int, args []*node) (*node, error) {
			for _, a := range args[1:] {
				if a.typ != args[0].typ {
					return nil, p.fail(a.at, "the values of coalesce are of one type, and this is a %s beside a %s", a.typ,
						args[0].typ)
				}
			}
			return &node{typ: args[0].typ, at: at, trend: steady(args...), eval: func(c *Context) value.Value {
				for _, a := range args {
					if v := a.eval(c); !v.IsEmpty() {
						return v
					}
				}
				return value.Value{}
			}}, nil
		})
}
