package plan

import (
	"time"

	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
)

// Aside is what a person has said of one email that is to come: that it does
// not go, or goes at another time.
type Aside struct {
	Of   rule.Occasion // as it was foreseen
	To   time.Time     // when it is to go instead; zero: it does not go
	Ends bool          // nor do the follow-ups after it in its chain
	Why  string        // if they have said
	By   string        // who
}

// Asides are the asides of one row by one rule, by identity.
type Asides map[rule.ID]Aside

// AsidesOf gathers asides.
func AsidesOf(all []Aside) Asides {
	if len(all) == 0 {
		return nil
	}
	out := make(Asides, len(all))
	for _, a := range all {
		out[a.Of.Identity()] = a
	}
	return out
}

// Of gives what has been said of an occasion: as itself, or, with each, of its
// row's emails together.
func (as Asides) Of(o *rule.Occasion) (Aside, bool) {
	if len(as) == 0 {
		return Aside{}, false
	}
	a, ok := as[o.Identity()]
	if !ok && o.Mailbox != "" {
		whole := o.Whole()
		a, ok = as[whole.Identity()]
	}
	return a, ok
}

// MovedTo gives when an occasion goes that a person has moved.
func (as Asides) MovedTo(o *rule.Occasion) (time.Time, bool) {
	a, ok := as.Of(o)
	return a.To, ok && !a.To.IsZero()
}

// leftOut gives why an occasion does not go that a person has left out.
func (as Asides) leftOut(o *rule.Occasion) (reason.Reason, bool) {
	a, ok := as.Of(o)
	switch {
	case !ok || !a.To.IsZero():
		return reason.Reason{}, false
	case a.Ends:
		return reason.Reason{Code: reason.ChainStopped, Value: a.By}, true
	}
	return reason.Reason{Code: reason.LeftOut, Value: a.Why, Mailbox: a.By}, true
}

// SkipRoundUps skips those round-ups that a person has left out.
func (as Asides) SkipRoundUps(ups []RoundUp) {
	for i := range ups {
		u := &ups[i]
		if why, ok := as.leftOut(&u.Occasion); ok {
			u.Considered = Considered{u.Occasion, skipped(why), u.At, nil}
		}
	}
}

// deferred takes up an occasion whose instant has come and which a person has
// moved: ok reports that it has been judged already or goes later.
func (l *Timeline) deferred(o *rule.Occasion, at time.Time) (ok bool) {
	to, moved := l.Asides.MovedTo(o)
	if !moved || to.Equal(o.Due) {
		return false
	}
	id, asked := o.Identity(), *o // a copy, so that what nobody has moved need not be kept apart
	if l.Ledger.Judged(&asked) {
		return true
	}
	o.Due = to
	if !to.After(at) {
		return false
	}
	for _, p := range l.Coming {
		if p.Kind == Moved && p.Identity() == id {
			return true
		}
	}
	l.expect(&Pending{Kind: Moved, Occasion: *o, At: to})
	return true
}
