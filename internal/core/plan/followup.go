package plan

import (
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// grace is how much later than due an email may be accepted before its
// follow-ups count from then.
const grace = time.Hour

// FollowUps gives the follow-ups of a first email that was accepted at an
// instant: the first of each step. Steps that name their own recipients come
// once for the occasion, with its first mailbox.
func (s *CompiledRule) FollowUps(o *rule.Occasion, firstMailbox bool, accepted time.Time) []rule.Occasion {
	if s.Rule.Then == nil || o.Base != "" {
		return nil
	}
	base := o.Due
	if accepted.Sub(o.Due) > grace {
		base = accepted
	}
	var out []rule.Occasion
	for i := range s.Rule.Then.Steps {
		f := *o
		f.SameMoment = false
		f.Base, f.BaseDue, f.Step, f.Again = o.Identity().String(), base, i+1, 0
		if len(s.Rule.Then.Steps[i].To) > 0 {
			if !firstMailbox {
				continue
			}
			whole := o.Whole()
			f.Base, f.Mailbox, f.Own = whole.Identity().String(), "", true
		}
		s.stepDue(&f)
		out = append(out, f)
	}
	return out
}

// NextAgain gives the next recurrence of a follow-up's step.
func (s *CompiledRule) NextAgain(o rule.Occasion) (rule.Occasion, bool) {
	st := s.stepOf(&o)
	if st == nil || st.Every == "" || st.Times > 0 && o.Again+1 >= st.Times {
		return o, false
	}
	o.Again++
	s.stepDue(&o)
	return o, true
}

func (s *CompiledRule) stepOf(o *rule.Occasion) *rule.Step {
	if s.Rule.Then == nil || o.Step < 1 || o.Step > len(s.Rule.Then.Steps) {
		return nil
	}
	return &s.Rule.Then.Steps[o.Step-1]
}

// stepDue works out when a follow-up falls due: days and weeks in wall time,
// at its time of day, moved by the window only to later.
func (s *CompiledRule) stepDue(o *rule.Occasion) {
	st := s.stepOf(o)
	after, _ := calendar.ParseDuration(st.After)
	at := after.After(o.BaseDue, s.Zone)
	if st.At != "" {
		sec, _ := value.ParseClock(st.At)
		at = calendar.Resolve(value.Wall{Day: value.DayAt(at.In(s.Zone)), Second: sec}, s.Zone)
	}
	if o.Again > 0 {
		every, _ := calendar.ParseDuration(st.Every)
		if st.At != "" && every.Time == 0 { // its time of day anew, whatever the clock did on the first day
			sec, _ := value.ParseClock(st.At)
			at = calendar.Resolve(value.Wall{Day: value.DayAt(at.In(s.Zone)) + value.Day(every.Days*o.Again), Second: sec},
				s.Zone)
		} else {
			at = calendar.Duration{Days: every.Days * o.Again, Time: every.Time * time.Duration(o.Again)}.After(at, s.Zone)
		}
	}
	o.Due, o.Unmoved = s.timing.MoveLater(at), time.Time{}
	if !o.Due.Equal(at) {
		o.Unmoved = at
	}
}

// judgeStep judges a follow-up: the rule's condition is not judged again, the
// stop condition is.
func (s *CompiledRule) judgeStep(o *rule.Occasion, row *sheet.Row, facts rule.Facts) Decision {
	if s.stepOf(o) == nil {
		return skip(reason.NoSuchStep)
	}
	if stop := s.Rule.Then.StopIf; stop != nil {
		if t, _ := stop.Judge(facts); t == rule.True {
			return skipped(reason.Reason{Code: reason.Stopped, Clause: stop.Words(s.Sheet)})
		}
	}
	v := s.step(o, row, facts)
	if v.Outcome == Send {
		v.Outcome = s.sends()
	}
	return v
}

func (s *CompiledRule) step(o *rule.Occasion, row *sheet.Row, facts rule.Facts) Decision {
	st := s.stepOf(o)
	if st == nil {
		return skip(reason.NoSuchStep)
	}
	to, cc, bcc := s.Rule.To, s.Rule.Cc, s.Rule.Bcc
	if st.NamesRecipients() {
		cc, bcc = st.Cc, st.Bcc
	}
	if len(st.To) > 0 {
		to = st.To
	}
	v := Decision{Outcome: Send, Template: st.Template, Reason: s.stepReason(o)}
	bad := s.recipients(&v, row, to, cc, bcc)
	if _, ok := s.Templates[st.Template]; !ok {
		return skip(reason.NoWording)
	}
	if bad == "" && !v.only(o.Mailbox) {
		return skipped(reason.Reason{Code: reason.NotRecipient, Mailbox: o.Mailbox})
	}
	if v, done := s.address(&v, row, bad, to); done {
		return v
	}
	return s.written(v, row, facts)
}

func (s *CompiledRule) stepReason(o *rule.Occasion) reason.Reason {
	first := *o
	first.Base, first.Due = "", o.BaseDue
	of := first.Reason(s.name(o.Column), s.Rule.Trigger.Every, s.Zone)
	return reason.Reason{Code: reason.FollowUp, Step: o.Step, Again: o.Again, Of: &of}
}
