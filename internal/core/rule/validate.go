package rule

import (
	"errors"
	"fmt"
	"time"
	"unicode/utf8"

	"github.com/shopspring/decimal"

	"nivot/internal/core/calendar"
	"nivot/internal/core/value"
)

// Scope is the sheet as a rule sees it.
type Scope interface {
	ColumnType(id string) (value.Type, bool) // of a formula, that of its result
	IsFormula(id string) bool
	IsMoving(id string) bool // a formula that changes while its row rests
	OptionID(column, name string) (string, bool)
	HasTemplate(id string) bool
	DefaultZone() *time.Location
	Opens(w *calendar.Window) bool // reports whether a window ever does, by the sheet's working calendar
}

// Validate checks a rule against its sheet and gives the first fault.
func (r *Rule) Validate(s Scope) error {
	for _, check := range r.checks() {
		if err := check(s); err != nil {
			return err
		}
	}
	return nil
}

// Faults gives what is wrong with a rule, at most one fault of each of its
// parts; each is a *FieldError.
func (r *Rule) Faults(s Scope) (out []*FieldError) {
	for _, check := range r.checks() {
		var fe *FieldError
		if errors.As(check(s), &fe) {
			out = append(out, fe)
		}
	}
	return out
}

func (r *Rule) checks() []func(Scope) error {
	return []func(Scope) error{r.validateName, r.validateZone, r.validateTrigger, r.validateCondition, r.validateWordings,
		r.validateOwnWordings, r.validateRecipients,
		r.validateWindow, r.validateTiming, r.validateBrake, r.validateThen}
}

// The bounds of a rule: of what is written for people in characters, of its lists in items.
const (
	maxNote      = 2000
	maxOffsets   = 100
	maxSteps     = 50
	maxWordings  = 100
	maxAddresses = 100
)

func (r *Rule) validateName(Scope) error {
	if err := value.CheckName("a rule", r.Name); err != nil {
		return fault("/name", "%s", err)
	}
	switch {
	case utf8.RuneCountInString(r.Note) > maxNote:
		return fault("/note", "a note has at most %d characters", maxNote)
	}
	return nil
}

func (r *Rule) validateZone(Scope) error {
	if r.Zone != "" {
		if _, err := time.LoadLocation(r.Zone); err != nil || r.Zone == "Local" {
			return fault("/zone", "zone %q is not known; use a name like Europe/London", r.Zone)
		}
	}
	return nil
}

func (r *Rule) validateTrigger(s Scope) error {
	return under("/trigger", r.Trigger.validate(s, r.Location(s.DefaultZone())))
}

func (r *Rule) validateCondition(s Scope) error {
	if r.Condition == nil {
		return nil
	}
	return r.Condition.Validate("/condition", s)
}

func (r *Rule) validateWordings(s Scope) error {
	if len(r.Send) == 0 {
		return fault("/send", "say which template is sent")
	}
	if len(r.Send) > maxWordings {
		return fault("/send", "a rule chooses among at most %d templates", maxWordings)
	}
	for i, w := range r.Send {
		at := fmt.Sprintf("/send/%d", i)
		if !s.HasTemplate(w.Template) {
			return fault(at+"/template", "choose a template")
		}
		if w.If == nil && i < len(r.Send)-1 {
			return fault(at+"/if", "only the last template may go without a condition")
		}
		if w.If != nil {
			if err := w.If.Validate(at+"/if", s); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *Rule) validateOwnWordings(s Scope) error {
	for i, o := range r.Trigger.Offsets {
		if o.Template != "" && !s.HasTemplate(o.Template) {
			return fault(fmt.Sprintf("/trigger/offsets/%d/template", i), "the template is not there")
		}
	}
	return nil
}

func (r *Rule) validateRecipients(s Scope) error {
	if len(r.To) == 0 {
		return fault("/to", "say to whom the email goes")
	}
	for _, list := range []struct {
		name  string
		items []Address
	}{{"to", r.To}, {"cc", r.Cc}, {"bcc", r.Bcc}, {"replyTo", r.ReplyTo}} {
		if err := validateAddresses("/"+list.name, list.items, s); err != nil {
			return err
		}
	}
	switch {
	case r.GroupBy != "" && r.GroupBy != "recipient":
		return fault("/groupBy", "%q is not known; a round-up is grouped by recipient", r.GroupBy)
	case r.GroupBy != "" && r.Trigger.Kind != Schedule:
		return fault("/groupBy", "a round-up goes by a schedule")
	case r.GroupBy != "" && r.Each:
		return fault("/each", "a round-up is one email per recipient already")
	case r.GroupBy != "" && (len(r.Send) != 1 || r.Send[0].If != nil):
		return fault("/send", "a round-up has one template")
	case r.GroupBy != "" && r.Repeat != nil && (r.Repeat.Once || r.Repeat.Apart != ""):
		return fault("/repeat", "a round-up says all that is so each time; narrow its condition instead")
	case r.GroupBy != "" && r.Then != nil:
		return fault("/then", "a round-up has no follow-ups: the next round-up is one")
	}
	return nil
}

func validateAddresses(at string, list []Address, s Scope) error {
	if len(list) > maxAddresses {
		return fault(at, "at most %d stand here", maxAddresses)
	}
	for i, a := range list {
		if err := a.validate(fmt.Sprintf("%s/%d", at, i), s); err != nil {
			return err
		}
	}
	return nil
}

func (a Address) validate(at string, s Scope) error {
	n := 0
	for _, x := range []string{a.Column, a.Address, a.Person} {
		if x != "" {
			n++
		}
	}
	if n != 1 {
		return fault(at, "give a column, an address or a person")
	}
	if a.Column != "" {
		if t, ok := s.ColumnType(a.Column); !ok || t != value.Email {
			return fault(at+"/column", "recipients come from a column of type email")
		}
		return nil
	}
	name, text := "/address", a.Address
	if a.Person != "" {
		name, text = "/person", a.Person
	}
	if _, err := value.ParseMailboxes(text); err != nil {
		return fault(at+name, "%s", err)
	}
	return nil
}

func (r *Rule) validateWindow(s Scope) error {
	w, err := r.Window.Calendar()
	if err != nil {
		return under("/window", err)
	}
	if w != nil && !s.Opens(w) {
		return fault("/window", "none of its weekdays is a working day, so it never opens; choose other days, or any day")
	}
	switch r.Shift {
	case "", calendar.Later, calendar.Earlier, calendar.NoShift:
	default:
		return fault("/shift", "%q is not known; use later, earlier or none", r.Shift)
	}
	return nil
}

func (r *Rule) validateTiming(Scope) error {
	switch r.Hold {
	case "", HoldNone, HoldFirstRun, HoldAlways:
	default:
		return fault("/hold", "%q is not known; use none, first-run or always", r.Hold)
	}
	switch r.SameWords {
	case "", SendSame, SkipSame:
	default:
		return fault("/sameWords", "%q is not known; use send or skip", r.SameWords)
	}
	if _, err := r.LateLimit(); err != nil {
		return fault("/late", "%s", err)
	}
	if r.Repeat != nil && r.Repeat.Apart != "" {
		if _, err := calendar.ParseDuration(r.Repeat.Apart); err != nil {
			return fault("/repeat/not-more-often-than", "%s", err)
		}
	}
	return nil
}

func (r *Rule) validateBrake(Scope) error {
	if b := r.Brake; b != nil {
		if b.Count < 1 {
			return fault("/brake/count", "it has to be 1 or more")
		}
		if b.Share.IsNegative() || b.Share.IsZero() || b.Share.GreaterThan(decimal.NewFromInt(1)) {
			return fault("/brake/share", "it is more than 0 and at most 1")
		}
	}
	return nil
}

func (r *Rule) validateThen(s Scope) error {
	if r.Then == nil {
		return nil
	}
	if len(r.Then.Steps) == 0 {
		return fault("/then/steps", "follow-ups need at least one step")
	}
	if len(r.Then.Steps) > maxSteps {
		return fault("/then/steps", "an email has at most %d follow-ups", maxSteps)
	}
	for i, st := range r.Then.Steps {
		if err := under(fmt.Sprintf("/then/steps/%d", i), st.validate(s)); err != nil {
			return err
		}
	}
	if r.Then.StopIf != nil {
		return r.Then.StopIf.Validate("/then/stopIf", s)
	}
	return nil
}

func (st *Step) validate(s Scope) error {
	after, err := calendar.ParseDuration(st.After)
	if err != nil {
		return fault("/after", "a follow-up comes some time after its email; %s", err)
	}
	if !s.HasTemplate(st.Template) {
		return fault("/template", "choose a template")
	}
	if st.At != "" {
		if _, err := value.ParseClock(st.At); err != nil {
			return fault("/at", "%s", err)
		}
		if after.Time != 0 || after.Days == 0 {
			return fault("/at", "a time of day goes with days and weeks")
		}
	}
	if st.Every != "" {
		if _, err := calendar.ParseDuration(st.Every); err != nil {
			return fault("/every", "%s", err)
		}
	}
	if st.Times < 0 || st.Times > maxTimes || st.Times > 0 && st.Every == "" {
		return fault("/times", "it is 1 or more, and goes with every")
	}
	if err := validateAddresses("/to", st.To, s); err != nil {
		return err
	}
	if err := validateAddresses("/cc", st.Cc, s); err != nil {
		return err
	}
	return validateAddresses("/bcc", st.Bcc, s)
}

// MaxOffset bounds an offset to what a calendar of people needs.
const MaxOffset = 20000

func (t *Trigger) validate(s Scope, zone *time.Location) error {
	if err := t.validateDelay(); err != nil {
		return err
	}
	switch t.Kind {
	case Date:
		return t.validateDate(s)
	case Change:
		return t.validateChange(s)
	case Edited:
		return t.validateEdited(s)
	case Threshold:
		return t.validateThreshold(s)
	case Schedule:
		return t.validateSchedule(zone)
	case Added, ByHand:
		return nil
	}
	return fault("/kind", "say when it is written")
}

// maxDelay is how long after a reaction its email may be due.
const maxDelay = 400 * 24 * time.Hour

func (t *Trigger) validateDelay() error {
	if t.Delay == "" {
		return nil
	}
	if !t.Kind.Reaction() {
		return fault("/delay", "only what reacts to an edit can wait")
	}
	d, err := calendar.ParseDuration(t.Delay)
	if err != nil {
		return fault("/delay", "%s", err)
	}
	if time.Duration(d.Days)*24*time.Hour+d.Time > maxDelay {
		return fault("/delay", "it is too long; an email waits for 400 days at the most")
	}
	return nil
}

func (t *Trigger) validateSchedule(zone *time.Location) error {
	r, err := t.Recurrence(zone)
	if err == nil && r.EndsBefore() {
		return fault("/rrule", "it ends before it begins; choose a later end")
	}
	if err == nil && r.Empty() {
		return fault("/rrule", "it never comes round: no day fits it; choose another day")
	}
	return err
}

// Recurrence gives a schedule's instants.
func (t *Trigger) Recurrence(zone *time.Location) (*calendar.Recurrence, error) {
	w, err := value.ParseMoment(t.Start, value.YearMonthDay, zone)
	if err != nil {
		return nil, fault("/start", "%s; write it as 2027-03-19T15:30", err)
	}
	r, err := calendar.NewRecurrence(w, t.RRule, zone)
	if err != nil {
		return nil, fault("/rrule", "%s", err)
	}
	return r, nil
}

func (t *Trigger) validateDate(s Scope) error {
	typ, ok := s.ColumnType(t.Column)
	if !ok || typ != value.Date && typ != value.Moment {
		return fault("/column", "choose a column of type date, or date and time")
	}
	if s.IsMoving(t.Column) {
		return fault("/column", "a date that moves with today() or now() is never reached; choose another column")
	}
	if len(t.Offsets) == 0 {
		return fault("/offsets", "say how many days before or after")
	}
	if len(t.Offsets) > maxOffsets {
		return fault("/offsets", "a rule writes at most %d times about one date", maxOffsets)
	}
	seen := map[Offset]bool{}
	for i, o := range t.Offsets {
		if err := t.validateOffset(o, typ); err != nil {
			return under(fmt.Sprintf("/offsets/%d", i), err)
		}
		k := Offset{N: o.N, Unit: o.Unit}
		if seen[k] {
			return fault(fmt.Sprintf("/offsets/%d", i), "the same offset stands there twice")
		}
		seen[k] = true
	}
	if t.At != "" {
		if _, err := value.ParseClock(t.At); err != nil {
			return fault("/at", "%s", err)
		}
	}
	if e := t.Every; e != nil {
		switch e.Unit {
		case "days", "weeks", "months", "years":
		default:
			return fault("/every/unit", "unit %q is not known; use days, weeks, months or years", e.Unit)
		}
		if e.N < 1 || e.N > MaxOffset {
			return fault("/every/n", "it is 1 or more, and at most %d", MaxOffset)
		}
		if e.Times < 0 || e.Times > maxTimes {
			return fault("/every/times", "it is 1 to %d", maxTimes)
		}
	}
	return nil
}

func (t *Trigger) validateOffset(o Offset, typ value.Type) error {
	switch o.Unit {
	case Days, WorkingDays:
	case Hours, Minutes:
		if typ != value.Moment || t.At != "" {
			return fault("/unit", "%s count from a date and time, without a time of day", o.Unit)
		}
	default:
		return fault("/unit", "unit %q is not known; use days, working-days, hours or minutes", o.Unit)
	}
	limit := MaxOffset
	if o.Unit == Minutes {
		limit *= 60
	}
	if o.N > limit || o.N < -limit {
		return fault("/n", "%d is too far", o.N)
	}
	return nil
}

func (t *Trigger) validateChange(s Scope) error {
	typ, ok := s.ColumnType(t.Column)
	if !ok {
		return fault("/column", "the column is not there")
	}
	if t.To != nil && len(t.To) == 0 {
		return fault("/to", "say what it becomes, or null for any change")
	}
	for _, l := range []struct {
		name  string
		items []Operand
	}{{"to", t.To}, {"from", t.From}} {
		for i := range l.items {
			at := fmt.Sprintf("/%s/%d", l.name, i)
			if l.items[i].Column != "" {
				return fault(at, "a value is wanted, not a column")
			}
			if _, err := l.items[i].typed(at, t.Column, Is, typ, s); err != nil {
				return err
			}
		}
	}
	return nil
}

func (t *Trigger) validateEdited(s Scope) error {
	if len(t.Columns) == 0 {
		return fault("/columns", "say which columns")
	}
	for i, c := range t.Columns {
		if _, ok := s.ColumnType(c); !ok {
			return fault(fmt.Sprintf("/columns/%d", i), "the column is not there")
		}
		if s.IsFormula(c) {
			return fault(fmt.Sprintf("/columns/%d", i), "a formula is calculated, not edited; name the columns it rests on")
		}
	}
	return nil
}

func (t *Trigger) validateThreshold(s Scope) error {
	if typ, ok := s.ColumnType(t.Column); !ok || typ != value.Number {
		return fault("/column", "choose a column of type number")
	}
	above := t.Op == More || t.Op == AtLeast
	if !above && t.Op != Less && t.Op != AtMost {
		return fault("/op", "%q is not known; use >=, >, <= or <", t.Op)
	}
	for _, l := range []struct {
		name  string
		level *Level
	}{{"limit", t.Limit}, {"rearm", t.Rearm}} {
		if l.level == nil {
			if l.name == "limit" {
				return fault("/limit", "a limit is missing")
			}
			continue
		}
		n := 0
		if l.level.Number != nil {
			n++
		}
		if l.level.Percent != nil {
			n++
		}
		if l.level.Column != "" {
			n++
			if typ, ok := s.ColumnType(l.level.Column); !ok || typ != value.Number {
				return fault("/"+l.name+"/column", "choose a column of type number")
			}
		}
		if n != 1 || l.name == "limit" && l.level.Percent != nil {
			return fault("/"+l.name, "a number or a column is wanted")
		}
	}
	return t.validateRearm(above)
}

// validateRearm refuses a re-arm level on the firing side, as far as it is
// known beforehand.
func (t *Trigger) validateRearm(above bool) error {
	r := t.Rearm
	if r == nil || r.Column != "" {
		return nil
	}
	if r.Percent != nil {
		if r.Percent.IsNegative() {
			return fault("/rearm/percent", "it is 0 or more, counted away from the firing side")
		}
		return nil
	}
	if t.Limit.Number == nil {
		return nil
	}
	c := r.Number.Cmp(*t.Limit.Number)
	if !above {
		c = -c
	}
	if c > 0 || c == 0 && (t.Op == AtLeast || t.Op == AtMost) {
		return fault("/rearm", "the re-arm level lies on the side that fires; take one beyond the limit on the other side")
	}
	return nil
}
