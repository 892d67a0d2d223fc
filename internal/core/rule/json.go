package rule

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"sort"
	"strings"

	"github.com/shopspring/decimal"

	"nivot/internal/core/jsoncheck"
)

// FieldError is a fault in a rule, with a JSON pointer (RFC 6901) to it.
type FieldError struct {
	Pointer string
	Message string
}

func (e *FieldError) Error() string {
	if e.Pointer == "" {
		return e.Message
	}
	return e.Pointer + ": " + e.Message
}

func fault(pointer, format string, args ...any) error {
	return &FieldError{Pointer: pointer, Message: fmt.Sprintf(format, args...)}
}

// under puts a pointer before that of a fault.
func under(pointer string, err error) error {
	var fe *FieldError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &fe):
		return &FieldError{Pointer: pointer + fe.Pointer, Message: fe.Message}
	}
	return &FieldError{Pointer: pointer, Message: err.Error()}
}

// object reads a JSON object name by name. fields says into what each known
// name is read; the names in need must be there. Any other name is a fault.
func object(b []byte, fields map[string]any, need ...string) error {
	var m map[string]json.RawMessage
	if err := json.Unmarshal(b, &m); err != nil || m == nil {
		return fault("", "an object is wanted, not %s", brief(b))
	}
	names := make([]string, 0, len(m))
	for n := range m {
		names = append(names, n)
	}
	sort.Strings(names)
	for _, n := range names {
		into, ok := fields[n]
		if !ok {
			known := make([]string, 0, len(fields))
			for k := range fields {
				known = append(known, k)
			}
			sort.Strings(known)
			return fault("/"+pointerEscape(n), "there is no such name here; there are %s", strings.Join(known, ", "))
		}
		if err := read(m[n], into); err != nil {
			return under("/"+pointerEscape(n), err)
		}
	}
	for _, n := range need {
		if _, ok := m[n]; !ok {
			return fault("/"+n, "this name is missing")
		}
	}
	return nil
}

func pointerEscape(s string) string { return strings.NewReplacer("~", "~0", "/", "~1").Replace(s) }

func read(b json.RawMessage, into any) error {
	err := json.Unmarshal(b, into)
	var typ *json.UnmarshalTypeError
	if errors.As(err, &typ) {
		return fault("", "%s is wanted, not %s", kindWord(typ.Type.Kind().String()), brief(b))
	}
	return err
}

func kindWord(k string) string {
	switch k {
	case "string":
		return "text"
	case "bool":
		return "true or false"
	case "slice":
		return "a list"
	case "int", "int32", "int64":
		return "a whole number"
	}
	return "an object"
}

func brief(b []byte) string {
	b = bytes.TrimSpace(b)
	if len(b) > 40 {
		return string(b[:40]) + "..."
	}
	return string(b)
}

// What a rule has at most: items in one of its lists, and times that something recurs.
const (
	maxList  = 500
	maxTimes = 10_000
	maxBytes = 256 << 10 // of its JSON
)

// list reads a JSON list, with the place of a faulty item in its error.
func list[T any](into *[]T) any { return &listOf[T]{into} }

type listOf[T any] struct{ into *[]T }

func (l *listOf[T]) UnmarshalJSON(b []byte) error {
	var raw []json.RawMessage
	if err := json.Unmarshal(b, &raw); err != nil {
		return fault("", "a list is wanted, not %s", brief(b))
	}
	if raw == nil {
		*l.into = nil
		return nil
	}
	if len(raw) > maxList {
		return fault("", "a list here has at most %d items; this one has %d", maxList, len(raw))
	}
	out := make([]T, len(raw))
	for i, r := range raw {
		if err := read(r, &out[i]); err != nil {
			return under(fmt.Sprintf("/%d", i), err)
		}
	}
	*l.into = out
	return nil
}

// Decode reads a rule's JSON. An unknown or missing name is an error that says
// where: a *FieldError.
func Decode(b []byte) (*Rule, error) {
	if err := jsoncheck.Check(b); err != nil {
		return nil, fmt.Errorf("the rule cannot be read: %w", err)
	}
	var r Rule
	return &r, r.UnmarshalJSON(b)
}

// UnmarshalJSON reads a rule name by name.
func (r *Rule) UnmarshalJSON(b []byte) error {
	if len(b) > maxBytes {
		return fault("", "a rule has at most %d kB; this one has %d", maxBytes>>10, len(b)>>10)
	}
	*r = Rule{}
	return object(b, map[string]any{"id": &r.ID, "name": &r.Name, "note": &r.Note, "state": &r.State, "zone": &r.Zone,
		"trigger":   &r.Trigger,
		"condition": &r.Condition, "send": list(&r.Send), "to": list(&r.To), "cc": list(&r.Cc), "bcc": list(&r.Bcc),
		"replyTo": list(&r.ReplyTo),
		"each":    &r.Each, "optOut": &r.OptOut, "groupBy": &r.GroupBy, "window": &r.Window, "shift": &r.Shift,
		"repeat": &r.Repeat, "sameWords": &r.SameWords, "late": &r.Late, "hold": &r.Hold,
		"brake": &r.Brake, "then": &r.Then}, "name", "trigger", "send", "to")
}

// UnmarshalJSON reads the names that the trigger's kind has.
func (t *Trigger) UnmarshalJSON(b []byte) error {
	*t = Trigger{}
	var head struct {
		Kind Kind `json:"kind"`
	}
	if err := json.Unmarshal(b, &head); err != nil {
		return fault("", "a trigger is an object with a kind, not %s", brief(b))
	}
	fields, need := map[string]any{"kind": &t.Kind}, []string{"kind"}
	with := func(name string, into any, needed bool) {
		fields[name] = into
		if needed {
			need = append(need, name)
		}
	}
	var rrule *string
	switch head.Kind {
	case Date:
		with("column", &t.Column, true)
		with("offsets", list(&t.Offsets), true)
		with("at", &t.At, false)
		with("every", &t.Every, false)
	case Change:
		with("column", &t.Column, true)
		with("to", list(&t.To), true)
		with("from", list(&t.From), false)
	case Edited:
		with("columns", list(&t.Columns), true)
	case Threshold:
		with("column", &t.Column, true)
		with("op", &t.Op, true)
		with("limit", &t.Limit, true)
		with("rearm", &t.Rearm, false)
	case Schedule:
		with("start", &t.Start, true)
		with("rrule", &rrule, false)
	case Added, ByHand, "":
	default:
		return fault("/kind", "trigger %q is not known; use date, change, added, edited, threshold, schedule or by-hand",
			head.Kind)
	}
	var delay *string
	if head.Kind.Reaction() {
		with("delay", &delay, false)
	}
	if err := object(b, fields, need...); err != nil {
		return err
	}
	if delay != nil {
		if t.Delay = *delay; t.Delay == "" {
			return fault("/delay", "a delay says something, such as PT1H; leave it out for none")
		}
	}
	if rrule == nil {
		return nil
	}
	if strings.TrimSpace(*rrule) == "" {
		return fault("/rrule", "a recurrence says something; leave it out for once, at the start")
	}
	t.RRule = *rrule
	return nil
}

// MarshalJSON writes what UnmarshalJSON reads.
func (t Trigger) MarshalJSON() ([]byte, error) {
	m := map[string]any{"kind": t.Kind}
	put := func(name string, v any, on bool) {
		if on {
			m[name] = v
		}
	}
	switch t.Kind {
	case Date:
		m["column"], m["offsets"] = t.Column, t.Offsets
		put("at", t.At, t.At != "")
		put("every", t.Every, t.Every != nil)
	case Change:
		m["column"], m["to"] = t.Column, t.To
		put("from", t.From, t.From != nil)
	case Edited:
		m["columns"] = t.Columns
	case Threshold:
		m["column"], m["op"], m["limit"] = t.Column, t.Op, t.Limit
		put("rearm", t.Rearm, t.Rearm != nil)
	case Schedule:
		m["start"] = t.Start
		put("rrule", t.RRule, t.RRule != "")
	}
	put("delay", t.Delay, t.Delay != "")
	return json.Marshal(m)
}

// UnmarshalJSON reads an offset.
func (o *Offset) UnmarshalJSON(b []byte) error {
	*o = Offset{}
	return object(b, map[string]any{"n": &o.N, "unit": &o.Unit, "template": &o.Template}, "n", "unit")
}

// UnmarshalJSON reads how anniversaries recur.
func (e *Every) UnmarshalJSON(b []byte) error {
	*e = Every{}
	var times *int
	if err := object(b, map[string]any{"unit": &e.Unit, "n": &e.N, "times": &times}, "unit", "n"); err != nil {
		return err
	}
	return atLeastOnce(times, &e.Times)
}

// UnmarshalJSON reads a wording.
func (w *Wording) UnmarshalJSON(b []byte) error {
	*w = Wording{}
	return object(b, map[string]any{"if": &w.If, "template": &w.Template}, "template")
}

// UnmarshalJSON reads an address.
func (a *Address) UnmarshalJSON(b []byte) error {
	*a = Address{}
	return object(b, map[string]any{"column": &a.Column, "address": &a.Address, "person": &a.Person})
}

// UnmarshalJSON reads a window.
func (w *Window) UnmarshalJSON(b []byte) error {
	*w = Window{}
	err := object(b, map[string]any{"weekdays": list(&w.Weekdays), "from": &w.From, "until": &w.Until,
		"workingDays": &w.WorkingDays})
	if err == nil && w.Weekdays != nil && len(w.Weekdays) == 0 {
		return fault("/weekdays", "it has a day at least; leave it out for any day")
	}
	return err
}

// UnmarshalJSON reads a brake.
func (x *Brake) UnmarshalJSON(b []byte) error {
	*x = Brake{}
	return object(b, map[string]any{"count": &x.Count, "share": &x.Share}, "count", "share")
}

// UnmarshalJSON reads follow-ups.
func (t *Then) UnmarshalJSON(b []byte) error {
	*t = Then{}
	return object(b, map[string]any{"steps": list(&t.Steps), "stopIf": &t.StopIf}, "steps")
}

// UnmarshalJSON reads a follow-up.
func (s *Step) UnmarshalJSON(b []byte) error {
	*s = Step{}
	var times *int
	if err := object(b, map[string]any{"after": &s.After, "template": &s.Template, "at": &s.At, "to": list(&s.To),
		"cc": list(&s.Cc), "bcc": list(&s.Bcc),
		"every": &s.Every, "times": &times}, "after", "template"); err != nil {
		return err
	}
	return atLeastOnce(times, &s.Times)
}

// atLeastOnce takes how often something is to come; not to say it is without
// end, and 0 would be never.
func atLeastOnce(times *int, into *int) error {
	if times == nil {
		return nil
	}
	if *times < 1 || *times > maxTimes {
		return fault("/times", "it is 1 to %d; leave it out for without end", maxTimes)
	}
	*into = *times
	return nil
}

// UnmarshalJSON reads "every-occasion", "once-per-row" or
// {"not-more-often-than": duration}.
func (r *Repeat) UnmarshalJSON(b []byte) error {
	*r = Repeat{}
	var word string
	if json.Unmarshal(b, &word) == nil {
		switch word {
		case "every-occasion":
		case "once-per-row":
			r.Once = true
		default:
			return fault("", "%q is not known; use every-occasion, once-per-row or {\"not-more-often-than\": \"P7D\"}", word)
		}
		return nil
	}
	return object(b, map[string]any{"not-more-often-than": &r.Apart}, "not-more-often-than")
}

// MarshalJSON writes what UnmarshalJSON reads.
func (r Repeat) MarshalJSON() ([]byte, error) {
	switch {
	case r.Once:
		return []byte(`"once-per-row"`), nil
	case r.Apart != "":
		return json.Marshal(map[string]string{"not-more-often-than": r.Apart})
	}
	return []byte(`"every-occasion"`), nil
}

// UnmarshalJSON reads a number, {"column": ...} or {"percent": ...}.
func (l *Level) UnmarshalJSON(b []byte) error {
	*l = Level{}
	b = bytes.TrimSpace(b)
	if len(b) > 0 && b[0] == '{' {
		var percent json.Number
		if err := object(b, map[string]any{"column": &l.Column, "percent": &percent}); err != nil {
			return err
		}
		if percent != "" {
			d, err := number([]byte(percent))
			if err != nil {
				return fault("/percent", "%s", err)
			}
			l.Percent = &d
		}
		return nil
	}
	d, err := number(b)
	if err != nil {
		return fault("", "a number or {\"column\": ...} is wanted, not %s", brief(b))
	}
	l.Number = &d
	return nil
}

// MarshalJSON writes what UnmarshalJSON reads.
func (l Level) MarshalJSON() ([]byte, error) {
	switch {
	case l.Column != "":
		return json.Marshal(map[string]string{"column": l.Column})
	case l.Percent != nil:
		return json.Marshal(map[string]json.Number{"percent": json.Number(l.Percent.String())})
	case l.Number != nil:
		return []byte(l.Number.String()), nil
	}
	return []byte("null"), nil
}

// number reads a JSON number exactly.
func number(b []byte) (decimal.Decimal, error) {
	if len(b) == 0 || b[0] == '"' {
		return decimal.Decimal{}, fmt.Errorf("a number is wanted, not %s", brief(b))
	}
	d, err := decimal.NewFromString(string(b))
	if err != nil || d.Exponent() > 60 || d.Exponent() < -60 || len(b) > 80 {
		return d, fmt.Errorf("a number is wanted, not %s", brief(b))
	}
	return d, nil
}

// Clone gives a copy that shares nothing with the rule.
func (r *Rule) Clone() (*Rule, error) {
	b, err := json.Marshal(r)
	if err != nil {
		return nil, err
	}
	return Decode(b)
}

// MarshalJSON writes what UnmarshalJSON reads.
func (x Brake) MarshalJSON() ([]byte, error) {
	return json.Marshal(map[string]json.Number{"count": json.Number(fmt.Sprint(x.Count)),
		"share": json.Number(x.Share.String())})
}
