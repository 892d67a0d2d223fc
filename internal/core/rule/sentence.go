package rule

import (
	"fmt"
	"strings"

	"github.com/shopspring/decimal"

	"nivot/internal/core/calendar"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Segment is a piece of a rule's sentence. One that stands for a clause of the
// rule names its place, a JSON pointer (RFC 6901) into the rule; a fault in the
// rule belongs to the segment whose place its own begins with.
type Segment struct {
	Text   string `json:"text"`
	Strong bool   `json:"strong,omitempty"` // it names a column, value or template
	Place  string `json:"place,omitempty"`  // the clause it is the words of
	Begins bool   `json:"begins,omitempty"` // a new paragraph
}

// Open is how a segment reads whose clause says nothing yet.
const Open = "…"

// speech puts a sentence together.
type speech struct {
	rule     *Rule
	sheet    *sheet.Sheet
	template func(id string) string
	out      []Segment
	begins   bool // the next segment opens a paragraph
	opens    bool // the next segment opens a sentence
}

func (p *speech) put(s Segment) {
	if s.Text == "" {
		return
	}
	if p.opens {
		s.Text = upperFirst(s.Text)
	}
	s.Begins = p.begins
	p.begins, p.opens = false, false
	p.out = append(p.out, s)
}

// say says plain words.
func (p *speech) say(text string) { p.put(Segment{Text: text}) }

// clause says the words of a clause; blank where it says nothing yet.
func (p *speech) clause(place, words string) {
	if words == "" {
		words = Open
	}
	p.put(Segment{Text: words, Strong: true, Place: place})
}

// lead says words that open a clause without being its value.
func (p *speech) lead(place, words string) { p.put(Segment{Text: words, Place: place}) }

// sentence begins another sentence, in a paragraph of its own or not.
func (p *speech) sentence(paragraph bool) {
	if len(p.out) > 0 && !paragraph {
		p.say(" ")
	}
	p.begins, p.opens = paragraph && len(p.out) > 0, true
}

// Sentence is the rule in plain English: one sentence of when, what and to
// whom, one of its follow-ups, and one for each bound that it sets. What is at
// its default is not said. template names a template by id.
func (r *Rule) Sentence(s *sheet.Sheet, template func(id string) string) []Segment {
	p := &speech{rule: r, sheet: s, template: template, opens: true}
	p.trigger()
	if r.Zone != "" {
		p.say(" in ")
		p.clause("/zone", r.Zone)
	}
	if r.Condition != nil {
		p.say(", for rows where ")
		p.clause("/condition", r.Condition.Words(s))
	}
	p.say(", write ")
	p.wordings()
	p.people()
	p.say(".")
	p.followUps()
	p.bounds()
	return p.out
}

// Text is the sentence as text, its paragraphs parted by a space.
func Text(segments []Segment) string {
	var b strings.Builder
	for _, s := range segments {
		if s.Begins {
			b.WriteByte(' ')
		}
		b.WriteString(s.Text)
	}
	return b.String()
}

// trigger says when.
func (p *speech) trigger() {
	t := &p.rule.Trigger
	if t.Delay != "" {
		p.clause("/trigger/delay", durationWords(t.Delay)+" after")
		p.say(" ")
	}
	switch t.Kind {
	case Date:
		p.clause("/trigger/offsets", t.offsetWords())
		p.say(" ")
		p.column("/trigger/column", t.Column)
		if t.Every != nil {
			p.say(", ")
			p.clause("/trigger/every", t.Every.words())
			p.say(",")
		}
		p.say(" at ")
		p.clause("/trigger/at", t.atWords(p.sheet))
	case Change:
		p.change()
	case Added:
		p.lead("/trigger/kind", p.soon("a row is added"))
	case Edited:
		p.leads("whenever")
		p.clause("/trigger/columns", columnNames(p.sheet, t.Columns, "or"))
		p.say(" is edited")
	case Threshold:
		p.leads("as soon as")
		p.column("/trigger/column", t.Column)
		p.say(" ")
		p.clause("/trigger/op", thresholdVerbs[t.Op])
		p.say(" ")
		p.clause("/trigger/limit", t.Limit.words(p.sheet, t.Column, t.Op))
		if t.Rearm != nil {
			p.say(", and again only once it has come back to ")
			p.clause("/trigger/rearm", t.Rearm.words(p.sheet, t.Column, t.Op))
		}
	case Schedule:
		p.clause("/trigger/rrule", p.rule.scheduleWords())
	case ByHand:
		p.lead("/trigger/kind", "by hand")
		p.say(", to the rows that somebody picks")
	default:
		p.clause("/trigger/kind", "when "+Open)
	}
}

// leads says the word that opens a reaction; behind a delay there is none: an hour after status becomes won.
func (p *speech) leads(word string) {
	if p.rule.Trigger.Delay != "" {
		return
	}
	p.lead("/trigger/kind", word)
	p.say(" ")
}

// soon is what happens, as soon as it does, or after a delay.
func (p *speech) soon(what string) string {
	if p.rule.Trigger.Delay != "" {
		return what
	}
	return "as soon as " + what
}

func (p *speech) column(place, id string) {
	name := ""
	if id != "" {
		name = columnName(p.sheet, id)
	}
	p.clause(place, name)
}

// change says what a cell becomes, or ceases to be.
func (p *speech) change() {
	t := &p.rule.Trigger
	to, from := operandWords(t.To, p.sheet, t.Column), operandWords(t.From, p.sheet, t.Column)
	lead := "as soon as"
	if t.To == nil && t.From == nil {
		lead = "whenever"
	}
	p.leads(lead)
	p.column("/trigger/column", t.Column)
	p.say(" ")
	switch {
	case t.To == nil && t.From == nil:
		p.clause("/trigger/to", "changes")
	case t.To == nil && len(t.From) == 1:
		p.clause("/trigger/from", "is no longer "+from)
	case t.To == nil:
		p.clause("/trigger/from", "changes from "+or(from))
	case t.From == nil:
		p.clause("/trigger/to", "becomes "+or(to))
	default:
		p.say("goes from ")
		p.clause("/trigger/from", from)
		p.say(" to ")
		p.clause("/trigger/to", to)
	}
}

func or(words string) string {
	if words == "" {
		return Open
	}
	return words
}

var thresholdVerbs = map[Op]string{AtLeast: "reaches", More: "rises above", AtMost: "falls to", Less: "falls below"}

// wordings says which template is sent when, and those of single offsets.
func (p *speech) wordings() {
	send := p.rule.Send
	if len(send) == 0 {
		p.clause("/send/0/template", "")
	}
	for i, w := range send {
		at := fmt.Sprintf("/send/%d", i)
		if i > 0 {
			p.say(", else ")
		}
		p.clause(at+"/template", p.name(w.Template))
		if w.If != nil {
			p.say(" where ")
			p.clause(at+"/if", w.If.Words(p.sheet))
		}
	}
	own := false
	for i, o := range p.rule.Trigger.Offsets {
		if o.Template == "" {
			continue
		}
		p.say(map[bool]string{false: ", but ", true: ", "}[own])
		own = true
		p.clause(fmt.Sprintf("/trigger/offsets/%d/template", i), p.name(o.Template))
		p.say(" " + o.alone())
	}
	if own || len(send) > 1 {
		p.say(",")
	}
}

func (p *speech) name(id string) string {
	if id == "" {
		return Open
	}
	return p.template(id)
}

// people says to whom.
func (p *speech) people() {
	r := p.rule
	switch {
	case r.GroupBy != "":
		p.say(" as ")
		p.lead("/groupBy", "one round-up")
		p.say(" for each address of ")
	default:
		p.say(" to ")
	}
	p.clause("/to", addresses(p.sheet, r.To))
	if r.Each {
		p.say(", ")
		p.lead("/each", "each alone")
	}
	p.copies("", r.Cc, r.Bcc)
	if len(r.ReplyTo) > 0 {
		p.say(", replies to ")
		p.clause("/replyTo", addresses(p.sheet, r.ReplyTo))
	}
}

func (p *speech) copies(at string, cc, bcc []Address) {
	if len(cc) > 0 {
		p.say(", with a copy to ")
		p.clause(at+"/cc", addresses(p.sheet, cc))
	}
	if len(bcc) > 0 {
		p.say(", with a blind copy to ")
		p.clause(at+"/bcc", addresses(p.sheet, bcc))
	}
}

// followUps says what comes after the first email.
func (p *speech) followUps() {
	t := p.rule.Then
	if t == nil {
		return
	}
	p.sentence(true)
	p.say("again ")
	for i := range t.Steps {
		st, at := &t.Steps[i], fmt.Sprintf("/then/steps/%d", i)
		if i > 0 {
			p.say(map[bool]string{true: ", and ", false: ", "}[i == len(t.Steps)-1])
		}
		after := "after " + durationWords(st.After)
		if st.At != "" {
			after += " at " + st.At
		}
		p.clause(at+"/after", after)
		p.say(" with ")
		p.clause(at+"/template", p.name(st.Template))
		if st.Every != "" {
			words := "every " + strings.TrimPrefix(durationWords(st.Every), "a ")
			if st.Times > 0 {
				words += ", " + timesWords(st.Times)
			}
			p.say(" and then ")
			p.clause(at+"/every", words)
		}
		if len(st.To) > 0 {
			p.say(" to ")
			p.clause(at+"/to", addresses(p.sheet, st.To))
		}
		p.copies(at, st.Cc, st.Bcc)
	}
	if t.StopIf != nil {
		p.say(", until ")
		p.clause("/then/stopIf", t.StopIf.Words(p.sheet))
	}
	p.say(".")
}

func timesWords(n int) string {
	if n == 1 {
		return "once in all"
	}
	return fmt.Sprintf("%d times in all", n)
}

// bounds says within what limits the emails go.
func (p *speech) bounds() {
	r, paragraph := p.rule, true
	next := func() {
		p.sentence(paragraph)
		paragraph = false
	}
	if r.Window != nil && !r.workingRound() {
		next()
		p.say("only ")
		p.clause("/window", r.Window.words())
		p.say("; what falls outside goes ")
		p.clause("/shift", shiftWords[r.Shift])
		p.say(".")
	}
	switch {
	case r.Repeat == nil:
	case r.Repeat.Once:
		next()
		p.clause("/repeat", "only once per row")
		p.say(".")
	case r.Repeat.Apart != "":
		next()
		p.clause("/repeat", "not again to the same row within "+durationWords(r.Repeat.Apart))
		p.say(".")
	}
	if r.SameWords == SkipSame {
		next()
		p.say("nobody gets ")
		p.clause("/sameWords", "the same words twice")
		p.say(" within twelve hours.")
	}
	if r.Late != "" {
		next()
		p.say("not later than ")
		p.clause("/late", durationWords(r.Late))
		p.say(" after it was due.")
	}
	if words := holdWords[r.Hold]; words != "" {
		next()
		p.clause("/hold", words)
		p.say(" is held until somebody has reviewed it.")
	}
	if r.Brake != nil {
		next()
		p.clause("/brake", r.Brake.words())
		p.say(" are held until somebody has reviewed them.")
	}
	if r.OptOut {
		next()
		p.say("email programs offer ")
		p.clause("/optOut", "to unsubscribe")
		p.say(".")
	}
}

var holdWords = map[Hold]string{HoldAlways: "each email", HoldFirstRun: "the first run"}

var shiftWords = map[calendar.Shift]string{"": "at the next such time", calendar.Later: "at the next such time",
	calendar.Earlier: "at the last such time before", calendar.NoShift: "all the same"}

func (b *Brake) words() string {
	words := fmt.Sprintf("more than %d emails in ten minutes", b.Count)
	if b.Share.LessThan(decimal.NewFromInt(1)) {
		words += fmt.Sprintf(", or %s%% of the rows and at least %d,", b.Share.Shift(2).String(), brakeLeast)
	}
	return words
}

// words says when a window is open.
func (w *Window) words() string {
	var parts []string
	switch {
	case len(w.Weekdays) > 0:
		days := make([]string, len(w.Weekdays))
		for i, d := range w.Weekdays {
			days[i] = weekdayName(d)
		}
		parts = append(parts, "on "+join2(days, "and"))
		if w.WorkingDays {
			parts = append(parts, "if it is a working day")
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
	if len(parts) == 0 {
		return "at any time"
	}
	return strings.Join(parts, " ")
}

// weekdayName gives the name of a weekday written as a window or RFC 5545 writes
// it: mon, MO, monday.
func weekdayName(d string) string {
	for _, name := range [7]string{"Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"} {
		if len(d) >= 2 && len(d) <= len(name) && strings.EqualFold(name[:len(d)], d) {
			return name
		}
	}
	return d
}

// When says when the trigger comes, in one phrase.
func (r *Rule) When(s *sheet.Sheet) string {
	p := &speech{rule: r, sheet: s}
	p.trigger()
	return Text(p.out)
}

func (t *Trigger) atWords(s *sheet.Sheet) string {
	if t.At != "" {
		return t.At
	}
	if c, ok := s.Column(t.Column); ok && c.ValueType() == value.Moment {
		return "its own time"
	}
	return DefaultAt
}

// DefaultAt is the time of day of what does not say one.
const DefaultAt = "09:00"

// alone says an offset where the date is not named after it: "3 days after",
// "on the day".
func (o Offset) alone() string {
	switch {
	case o.N != 0:
		return (&Trigger{Offsets: []Offset{o}}).offsetWords()
	case o.Unit == WorkingDays:
		return "on the first working day from it"
	}
	return "on the day"
}

// offsetWords groups the offsets by side and unit: "30, 14 and 7 days before".
// Those with a wording of their own stand among them.
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

// words writes a threshold's limit or re-arm level of a column.
func (l *Level) words(s *sheet.Sheet, column string, op Op) string {
	switch {
	case l == nil:
		return ""
	case l.Column != "":
		return columnName(s, l.Column)
	case l.Percent != nil:
		side := "below"
		if op == Less || op == AtMost {
			side = "above"
		}
		return l.Percent.String() + "% " + side + " the limit"
	case l.Number != nil:
		col, _ := s.Column(column)
		return numberWords(*l.Number, col, s)
	}
	return ""
}
