package rule

import (
	"fmt"
	"strings"

	"nivot/internal/core/calendar"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Phrases are the parts of a rule's English sentence, each the words of one
// blank.
type Phrases struct {
	When      string `json:"when"`      // "30, 14, 7 and 1 days before"; of other triggers the whole of it
	Column    string `json:"column"`    // "return due"
	Every     string `json:"every"`     // "every year", or ""
	At        string `json:"at"`        // "09:00", or "its own time"
	Zone      string `json:"zone"`      // the rule's own zone, or ""
	Condition string `json:"condition"` // "state is out or extended", or ""
	Template  string `json:"template"`
	To        string `json:"to"`
	Cc        string `json:"cc"`
	Bcc       string `json:"bcc"`
	ReplyTo   string `json:"replyTo"`
	Late      string `json:"late"`   // "a day"
	Window    string `json:"window"` // "on working days from 08:00 until 17:00", or ""
	Repeat    string `json:"repeat"` // "once per row", or ""
	Then      string `json:"then"`   // "again after 3 days (Packing again), until state is back", or ""
	Hold      string `json:"hold"`   // "asks first", or ""
}

// Segment is a piece of a sentence; Strong ones name a column or template.
type Segment struct {
	Text   string `json:"text"`
	Strong bool   `json:"strong,omitempty"`
}

// Describe gives the phrases of a rule. template names a template by id.
func (r *Rule) Describe(s *sheet.Sheet, template func(id string) string) Phrases {
	p := Phrases{
		When: r.Trigger.when(s), Column: columnName(s, r.Trigger.Column), Zone: r.Zone,
		To: addresses(s, r.To), Cc: addresses(s, r.Cc), Bcc: addresses(s, r.Bcc), ReplyTo: addresses(s, r.ReplyTo),
		Window: r.windowWords(), Repeat: r.repeatWords(), Then: r.thenWords(s, template),
	}
	if r.Trigger.Kind == Date {
		p.At = r.Trigger.At
		if c, ok := s.Column(r.Trigger.Column); p.At == "" && ok {
			if p.At = "09:00"; c.ValueType() == value.Moment {
				p.At = "its own time"
			}
		}
	}
	if e := r.Trigger.Every; e != nil {
		p.Every = e.words()
	}
	if r.Condition != nil {
		p.Condition = r.Condition.Words(s)
	}
	switch r.Hold {
	case HoldAlways:
		p.Hold = "ask first each time"
	case HoldFirstRun:
		p.Hold = "ask first the first time"
	}
	var names []string
	for _, w := range r.Send {
		n := template(w.Template)
		if w.If != nil {
			n += " if " + w.If.Words(s)
		}
		names = append(names, n)
	}
	p.Template = strings.Join(names, ", else ")
	if d, err := r.LateLimit(); err == nil {
		p.Late = d.Words()
	}
	return p
}

// Sentence is the rule in plain English.
func (r *Rule) Sentence(s *sheet.Sheet, template func(id string) string) []Segment {
	p := r.Describe(s, template)
	var out []Segment
	say := func(text string) { out = append(out, Segment{Text: text}) }
	strong := func(text string) { out = append(out, Segment{Text: text, Strong: true}) }
	also := func(words, text string) {
		if text != "" {
			say(words + text)
		}
	}
	say(upperFirst(p.When))
	if r.Trigger.Kind == Date {
		say(" ")
		strong(p.Column)
		if p.Every != "" {
			say(", " + p.Every + ",")
		}
		say(" at " + p.At)
	}
	if p.Zone != "" {
		say(" (" + p.Zone + ")")
	}
	also(", while ", p.Condition)
	say(", write ")
	strong(p.Template)
	switch {
	case r.GroupBy != "":
		say(" as one round-up to each " + p.To)
	case r.Each:
		say(" to each address of " + p.To)
	default:
		say(" to " + p.To)
	}
	also(", copy to ", p.Cc)
	also(", blind copy to ", p.Bcc)
	also(", ", p.Repeat)
	also(", ", p.Window)
	also("; ", p.Then)
	also("; ", p.Hold)
	say(".")
	return out
}

func (r *Rule) windowWords() string {
	w := r.Window
	if w == nil {
		return ""
	}
	var parts []string
	switch {
	case len(w.Weekdays) > 0:
		parts = append(parts, "on "+join2(w.Weekdays, "and"))
		if w.WorkingDays {
			parts = append(parts, "if worked")
		}
	case w.WorkingDays:
		parts = append(parts, "on working days")
	}
	if w.From != "" {
		parts = append(parts, "from "+w.From)
	}
	if w.Until != "" {
		parts = append(parts, "until "+w.Until)
	}
	moved := map[calendar.Shift]string{"": "else at the next such time", calendar.Later: "else at the next such time",
		calendar.Earlier: "else at the last such time before", calendar.NoShift: "else all the same"}[r.Shift]
	return strings.Join(parts, " ") + ", " + moved
}

func (r *Rule) repeatWords() string {
	switch {
	case r.Repeat == nil:
		return ""
	case r.Repeat.Once:
		return "once per row"
	case r.Repeat.Apart != "":
		if d, err := calendar.ParseDuration(r.Repeat.Apart); err == nil {
			return "not again within " + d.Words()
		}
	}
	return ""
}

func (r *Rule) thenWords(s *sheet.Sheet, template func(id string) string) string {
	if r.Then == nil {
		return ""
	}
	var parts []string
	for _, st := range r.Then.Steps {
		w := "again after " + durationWords(st.After)
		if st.At != "" {
			w += " at " + st.At
		}
		if st.Every != "" {
			w += " and every " + strings.TrimPrefix(durationWords(st.Every), "a ")
			if st.Times > 0 {
				w += fmt.Sprintf(", %d times in all", st.Times)
			}
		}
		w += " (" + template(st.Template)
		if len(st.To) > 0 {
			w += " to " + addresses(s, st.To)
		}
		if len(st.Cc) > 0 {
			w += ", copy to " + addresses(s, st.Cc)
		}
		if len(st.Bcc) > 0 {
			w += ", blind copy to " + addresses(s, st.Bcc)
		}
		parts = append(parts, w+")")
	}
	out := join2(parts, "and")
	if r.Then.StopIf != nil {
		out += ", until " + r.Then.StopIf.Words(s)
	}
	return out
}

func durationWords(iso string) string {
	d, err := calendar.ParseDuration(iso)
	if err != nil {
		return iso
	}
	return d.Words()
}

func upperFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func columnName(s *sheet.Sheet, id string) string {
	if c, ok := s.Column(id); ok {
		return ColumnWord(c.Name)
	}
	return "…"
}

// ColumnWord writes a column's name inside a sentence: its first letter small,
// unless the word is an abbreviation.
func ColumnWord(n string) string {
	r := []rune(n)
	if len(r) > 1 && strings.ToUpper(string(r[1])) == string(r[1]) && strings.ToLower(string(r[1])) != string(r[1]) {
		return n
	}
	if len(r) == 0 {
		return n
	}
	return strings.ToLower(string(r[0])) + string(r[1:])
}

// when says when the trigger comes.
func (t *Trigger) when(s *sheet.Sheet) string {
	switch t.Kind {
	case Change:
		to, from := operandWords(t.To, s, t.Column), operandWords(t.From, s, t.Column)
		if t.To == nil {
			to = ""
		}
		switch {
		case to == "" && from == "":
			return "whenever " + columnName(s, t.Column) + " changes"
		case to == "":
			return "whenever " + columnName(s, t.Column) + " changes from " + from
		case from == "":
			return "as soon as " + columnName(s, t.Column) + " becomes " + to
		}
		return "as soon as " + columnName(s, t.Column) + " goes from " + from + " to " + to
	case Added:
		return "as soon as a row is added"
	case Edited:
		var names []string
		for _, id := range t.Columns {
			names = append(names, columnName(s, id))
		}
		return "whenever " + join2(names, "or") + " is edited"
	case Threshold:
		return t.thresholdWords(s)
	case Schedule:
		return t.scheduleWords()
	case ByHand:
		return "when somebody says so"
	}
	return t.offsetWords()
}

func operandWords(list []Operand, s *sheet.Sheet, column string) string {
	col, _ := s.Column(column)
	var out []string
	for i := range list {
		out = append(out, list[i].words(s, col))
	}
	return join2(out, "or")
}

func (t *Trigger) thresholdWords(s *sheet.Sheet) string {
	verb := map[Op]string{AtLeast: "reaches", More: "rises above", AtMost: "falls to", Less: "falls below"}[t.Op]
	out := "as soon as " + columnName(s, t.Column) + " " + verb + " " + t.Limit.words(s)
	if t.Rearm != nil {
		out += ", again only once it has come back to " + t.Rearm.words(s)
	}
	return out
}

func (l *Level) words(s *sheet.Sheet) string {
	switch {
	case l == nil:
		return "…"
	case l.Column != "":
		return columnName(s, l.Column)
	case l.Percent != nil:
		return l.Percent.String() + " percent away from the limit"
	case l.Number != nil:
		return value.FormatNumber(*l.Number, value.NumberFormat{}, s.Locale)
	}
	return "…"
}

// scheduleWords says what is common in words, and the rest as it is written.
func (t *Trigger) scheduleWords() string {
	start, err := value.ParseMoment(t.Start, value.YearMonthDay, nil)
	if err != nil {
		return "on a schedule"
	}
	h, m, _ := start.Clock()
	at := fmt.Sprintf("%02d:%02d", h, m)
	if t.RRule == "" {
		return "on " + value.FormatDay(start.Day, value.Medium, nil, "") + " at " + at
	}
	weekdays := map[string]string{"MO": "Monday", "TU": "Tuesday", "WE": "Wednesday", "TH": "Thursday", "FR": "Friday", "SA": "Saturday", "SU": "Sunday"}
	ordinals := map[string]string{"1": "first", "2": "second", "3": "third", "4": "fourth", "-1": "last"}
	rule := strings.TrimPrefix(t.RRule, "RRULE:")
	switch rule {
	case "FREQ=DAILY":
		return "every day at " + at
	case "FREQ=WEEKLY":
		return "every " + start.Day.Weekday().String() + " at " + at
	case "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR":
		return "every weekday at " + at
	}
	if day, ok := strings.CutPrefix(rule, "FREQ=WEEKLY;BYDAY="); ok && !strings.Contains(day, ";") {
		var names []string
		for _, d := range strings.Split(day, ",") {
			names = append(names, weekdays[d])
		}
		return "every " + join2(names, "and") + " at " + at
	}
	if day, ok := strings.CutPrefix(rule, "FREQ=MONTHLY;BYDAY="); ok && len(day) > 2 {
		if n, w := ordinals[day[:len(day)-2]], weekdays[day[len(day)-2:]]; n != "" && w != "" {
			return fmt.Sprintf("every %s %s of the month at %s", n, w, at)
		}
	}
	return fmt.Sprintf("by the schedule %s from %s %s on", rule, value.FormatDay(start.Day, value.Medium, nil, ""), at)
}

// offsetWords groups the offsets by side and unit: "30, 14 and 7 days before".
func (t *Trigger) offsetWords() string {
	type group struct {
		unit  Unit
		after int
	}
	var order []group
	ns := map[group][]int{}
	for _, o := range t.Offsets {
		g := group{o.Unit, sign(o.N)}
		if _, ok := ns[g]; !ok {
			order = append(order, g)
		}
		ns[g] = append(ns[g], o.N*sign(o.N))
	}
	var parts []string
	for _, g := range order {
		if g.after == 0 {
			if g.unit == WorkingDays {
				parts = append(parts, "on the first working day from")
			} else {
				parts = append(parts, "on")
			}
			continue
		}
		nums := make([]string, len(ns[g]))
		for i, n := range ns[g] {
			nums[i] = fmt.Sprint(n)
		}
		unit := strings.ReplaceAll(string(g.unit), "-", " ")
		if len(nums) == 1 && nums[0] == "1" {
			unit = strings.TrimSuffix(unit, "s")
		}
		side := "before"
		if g.after > 0 {
			side = "after"
		}
		parts = append(parts, fmt.Sprintf("%s %s %s", join2(nums, "and"), unit, side))
	}
	return join2(parts, "and")
}

func sign(n int) int {
	switch {
	case n < 0:
		return -1
	case n > 0:
		return 1
	}
	return 0
}

func join2(items []string, word string) string {
	switch len(items) {
	case 0:
		return ""
	case 1:
		return items[0]
	}
	return strings.Join(items[:len(items)-1], ", ") + " " + word + " " + items[len(items)-1]
}

func (e *Every) words() string {
	unit := strings.TrimSuffix(e.Unit, "s")
	s := "every " + unit
	if e.N > 1 {
		s = fmt.Sprintf("every %d %s", e.N, e.Unit)
	}
	if e.Times > 0 {
		s += fmt.Sprintf(", %d times in all", e.Times)
	}
	return s
}

func addresses(s *sheet.Sheet, list []Address) string {
	var parts []string
	for _, a := range list {
		if a.Column != "" {
			parts = append(parts, columnName(s, a.Column))
		} else {
			parts = append(parts, a.Address+a.Person)
		}
	}
	return join2(parts, "and")
}

// Words writes a condition in English: "state is out or extended".
func (c *Condition) Words(s *sheet.Sheet) string {
	switch c.form {
	case 'a', 'y':
		items, word := c.All, "and"
		if c.form == 'y' {
			items, word = c.Any, "or"
		}
		var parts []string
		for i := range items {
			w := items[i].Words(s)
			if (items[i].form == 'a' || items[i].form == 'y') && len(items) > 1 {
				w = "(" + w + ")"
			}
			parts = append(parts, w)
		}
		if len(parts) == 0 {
			return map[byte]string{'a': "anything", 'y': "nothing"}[c.form]
		}
		return strings.Join(parts, " "+word+" ")
	case 'n':
		return "it is not so that " + c.Not.Words(s)
	}
	name := columnName(s, c.Column)
	vals := c.valueWords(s)
	one := ""
	if len(vals) > 0 {
		one = vals[0]
	}
	switch c.Op {
	case Is, OneOf:
		return name + " is " + join2(vals, "or")
	case IsNot, NoneOf:
		return name + " is not " + join2(vals, "or")
	case IsEmpty:
		return name + " is empty"
	case IsFilled:
		return name + " is filled"
	case IsBad:
		return name + " cannot be read"
	case Contains:
		return name + " contains " + one
	case StartsWith:
		return name + " starts with " + one
	case EndsWith:
		return name + " ends with " + one
	case Less:
		return name + " is below " + one
	case AtMost:
		return name + " is at most " + one
	case More:
		return name + " is above " + one
	case AtLeast:
		return name + " is at least " + one
	case Before, After, OnDay:
		return name + " is " + string(c.Op) + " " + one
	case Between:
		return name + " is between " + join2(vals, "and")
	case DaysAway:
		return name + " is " + join2(vals, "to") + " days away"
	case ChangedIn:
		if d, err := calendar.ParseDuration(one); err == nil {
			return name + " has changed within " + d.Words()
		}
	}
	return name + " " + string(c.Op) + " " + one
}

func (c *Condition) valueWords(s *sheet.Sheet) []string {
	if c.Value == nil {
		return nil
	}
	items := c.Value.List
	if !c.Value.isList {
		items = []Operand{*c.Value}
	}
	col, _ := s.Column(c.Column)
	out := make([]string, 0, len(items))
	for _, it := range items {
		out = append(out, it.words(s, col))
	}
	return out
}

func (o *Operand) words(s *sheet.Sheet, col *sheet.Column) string {
	switch {
	case o.Column != "":
		return columnName(s, o.Column)
	case o.Number != nil:
		return value.FormatNumber(*o.Number, value.NumberFormat{}, s.Locale)
	case o.Yes != nil:
		return map[bool]string{true: "yes", false: "no"}[*o.Yes]
	case o.Text == nil:
		return "…"
	}
	if col != nil {
		switch col.ValueType() {
		case value.Choice:
			return s.Show(col, value.Value{State: value.Filled, Type: value.Choice, Str: *o.Text})
		case value.Date, value.Moment:
			if d, err := value.ParseDay(*o.Text, value.YearMonthDay); err == nil {
				return value.FormatDay(d, value.Medium, s.Locale, "")
			}
		}
	}
	return *o.Text
}

// Leaves lists the leaves of a condition in order.
func (c *Condition) Leaves() []*Condition {
	if c == nil {
		return nil
	}
	switch c.form {
	case 'a', 'y':
		var out []*Condition
		for _, list := range [][]Condition{c.All, c.Any} {
			for i := range list {
				out = append(out, list[i].Leaves()...)
			}
		}
		return out
	case 'n':
		return c.Not.Leaves()
	}
	return []*Condition{c}
}

// Clauses parts a condition into what has to hold together: the members of a
// top "all", or the condition itself.
func (c *Condition) Clauses() []*Condition {
	if c == nil {
		return nil
	}
	if c.form != 'a' {
		return []*Condition{c}
	}
	out := make([]*Condition, len(c.All))
	for i := range c.All {
		out[i] = &c.All[i]
	}
	return out
}
