package reason

import (
	"fmt"
	"strings"
	"time"

	"nivot/internal/core/calendar"
)

// plain are the reasons whose words have no parameters.
var plain = map[Code]string{
	Added: "the row was added", ByHand: "sent by hand",
	RowGone:            "the row is gone: it is no longer in the file it came from",
	RowDeleted:         "row deleted",
	SameMoment:         "same moment: another email of this rule goes to the row then",
	NoWording:          "no template fits",
	Replaced:           "replaced: a later sending by hand takes its place",
	LeftAgain:          "left again: by the time it was due it was over",
	RepeatOnce:         "repeat: the row has had its email",
	DoNotEmail:         "do-not-email: every recipient is on the do-not-email list",
	NoSuchStep:         "the rule has no such follow-up any more",
	FirstDidNotGo:      "the first email did not go",
	DateMoved:          "the date it hung on has been moved",
	RuleGone:           "the rule is not there any more",
	SheetGone:          "the sheet is not there any more",
	BecameMailboxes:    "fixed: each address has an email of its own now",
	ColumnGone:         "a column that the rule names is not there any more",
	SendingOff:         "all sending is switched off",
	AsksFirst:          "the rule asks first",
	EditAsks:           "whoever made the edit wants to review it first",
	FirstRun:           "the rule's first run waits to be reviewed",
	Window:             "fixed, and waits for its send window",
	Baseline:           "it was past when the rule was switched on",
	Brake:              "the brake holds the rule: more emails at once than expected",
	Restored:           "the database went back in time, and it may have gone already",
	NoRoom:             "found no room under the sender's daily cap within 7 days",
	LookedThrough:      "left out when the rule was reviewed",
	BatchStopped:       "the sending was stopped before its turn",
	PutOff:             "deferred by the mail server",
	LostBefore:         "contact with the mail server was lost before the email was handed over",
	LostAfter:          "contact with the mail server was lost after the email had been handed over, before it answered",
	LostLedger:         "contact with the database was lost before the email was handed over",
	SomePutOff:         "some recipients were deferred; the others have it",
	ProgramStopped:     "the program stopped while the mail server may have been taking the email",
	NoSender:           "there is no sender; add one under Setup",
	NoStartTLS:         "the mail server does not offer STARTTLS, which the sender requires",
	BadCertificate:     "the mail server shows a certificate that is not its own, has ended or is not trusted",
	Unprotected:        "the password would go unprotected over the network",
	SignInRefused:      "the mail server did not accept the user name or the password",
	NoSignIn:           "the mail server offers no way of signing in that Nivot knows",
	SignInWanted:       "the mail server wants to be signed in to, or does not send for this sender",
	SenderRefused:      "the mail server does not send for the sender's address",
	ServerBusy:         "the mail server takes nothing at the moment",
	TooManyConnections: "the mail server allows no more connections at once",
	MessageTooLarge:    "the email is larger than the mail server takes",
	MailboxFull:        "the recipient's mailbox is full",
	Policy:             "the mail server refuses the email by its rules",
	NoMailbox:          "there is no such mailbox",
	ProgramFault:       "a fault in the program ended this try; it has been logged",
}

// Words says the reason in English: a clause without a capital or a full stop.
func (r Reason) Words() string {
	if w, ok := plain[r.Code]; ok {
		return r.with(w)
	}
	switch r.Code {
	case Date:
		return r.with(r.date())
	case Became:
		return r.with(r.Name + " became " + orNothing(r.Value) + having(r.Was))
	case Reached:
		return r.with(r.Name + " reached " + r.Value)
	case Changed:
		return r.with(r.Name + " changed")
	case Round:
		return r.with("the schedule came round" + rows(r.N))
	case FollowUp:
		w := fmt.Sprintf("follow-up %d", r.Step)
		if r.Again > 0 {
			w += ", again"
		}
		return w + r.of(" of: ")
	case ConditionFalse:
		if len(r.Cells) == 0 {
			return "condition false: " + r.Clause
		}
		return "condition false: " + r.cells(", ") + ", not so that " + r.Clause
	case RepeatApart:
		return "repeat: the row had an email less than " + duration(r.Value) + " ago"
	case SameWords:
		return r.sameWords()
	case Stopped:
		return "stopped: " + r.Clause
	case NotRecipient:
		return r.Mailbox + " is no longer among the recipients"
	case Unreadable:
		return unreadable(r.Name, r.Value, r.Unit)
	case NoAddress:
		return "no usable address: " + r.Name + " is empty"
	case FieldEmpty:
		return r.missing()
	case LeftOut:
		w := "left out"
		if r.Mailbox != "" {
			w += " by " + r.Mailbox
		}
		if r.Value != "" {
			w += ": " + r.Value
		}
		return w
	case ChainStopped:
		return "stopped: " + r.Value + " has ended the follow-ups"
	case PersonLimit:
		return fmt.Sprintf("limit per person: %s has had %d within %s", r.Mailbox, r.N, duration(r.Value)) + r.waits()
	case DailyCap:
		if r.At == nil {
			return "over the sender's daily cap; it goes the next day there is room"
		}
		return "over the sender's daily cap; it goes on " + r.at()
	case RowsDiffer:
		return "a field outside the table is not the same for " + strings.Join(r.Rows, " and ")
	case OfRow:
		return strings.Join(r.Rows, ", ") + r.of(": ")
	case TooLate:
		return "it was due at " + r.at() + ", could not go then, and the late limit has passed"
	case NotMended:
		return "it was not fixed within the late limit" + r.of(": ")
	case GivenUp:
		return "given up after 24 hours" + r.of(": ")
	case Unreachable:
		if r.Was == "" {
			return "the mail server cannot be reached: " + r.Value
		}
		return "the mail server at " + r.Value + " cannot be reached: " + r.Was
	case Refused:
		return "refused by the mail server: " + r.Value
	case NoSuchHost:
		return "there is no server of the name " + r.Value
	case NothingListens:
		return "nothing listens at " + r.Value
	case NoAnswer:
		return "the mail server at " + r.Value + " does not answer"
	case NotTLS:
		return r.Value + " does not begin with TLS"
	case BeginsWithTLS:
		return r.Value + " begins with TLS"
	case CannotWrite:
		return "the message cannot be made: " + r.Value
	case CannotRead:
		return "its entry in the ledger cannot be read: " + r.Value
	case Said:
		return r.Value
	}
	return string(r.Code)
}

// kinds are what reasons with parameters are called where many are counted.
var kinds = map[Code]string{ConditionFalse: "the condition is false", RepeatApart: "repeat: too soon after the last",
	Stopped:      "stopped: the follow-ups have ended",
	NotRecipient: "no longer among the recipients", DoNotEmail: "on the do-not-email list",
	SameMoment: "another email of the rule goes at the same moment", LeftAgain: "left again before it was due",
	RepeatOnce: "repeat: once per row", PersonLimit: "limit per person", RowGone: "the row is gone",
	NoWording: "no template fits", SameWords: "the same words as another email"}

// Kind says what kind of reason it is, without its parameters.
func (r Reason) Kind() string {
	if w, ok := kinds[r.Code]; ok {
		return w
	}
	return Reason{Code: r.Code}.Words()
}

// with adds what the condition's columns held.
func (r Reason) with(w string) string {
	if len(r.Cells) == 0 {
		return w
	}
	return w + "; " + r.cells("; ")
}

func (r Reason) cells(sep string) string {
	is := make([]string, len(r.Cells))
	for i, c := range r.Cells {
		if is[i] = c.Name + " is " + c.Value; c.Value == "" {
			is[i] = c.Name + " is empty"
		}
	}
	return strings.Join(is, sep)
}

func (r Reason) missing() string {
	is := make([]string, len(r.Cells))
	for i, c := range r.Cells {
		switch {
		case c.Bad:
			is[i] = unreadable(c.Name, c.Value, c.Kind)
		case c.Kind == Files && c.Value != "":
			is[i] = c.Name + " names " + c.Value + ", which is not among the files of the sheet"
		case c.Kind == Files:
			is[i] = c.Name + " names no file, and the email is to carry one"
		case c.Kind == TooLarge:
			is[i] = "the files that " + c.Name + " names make the email too large"
		default:
			is[i] = c.Name + " is empty and the template has no fallback for it"
		}
	}
	return strings.Join(is, "; ")
}

// waits says when an email that waits is looked at again.
func (r Reason) waits() string {
	if r.At == nil {
		return ""
	}
	return "; it waits until " + r.at()
}

func (r Reason) of(sep string) string {
	if r.Of == nil {
		return ""
	}
	return sep + r.Of.Words()
}

func (r Reason) at() string {
	if r.At == nil {
		return "some time"
	}
	t := *r.At
	if loc, err := time.LoadLocation(r.Zone); err == nil {
		t = t.In(loc)
	}
	return t.Format("Mon 2 Jan 15:04")
}

func (r Reason) date() string {
	what := r.Name
	if r.Anniversary > 0 {
		what = fmt.Sprintf("anniversary %d of %s", r.Anniversary, r.Name)
	}
	plural := "s"
	if r.N == 1 || r.N == -1 {
		plural = ""
	}
	switch {
	case r.N == 0 && r.Unit == "day":
		return what + " is today"
	case r.N >= 0:
		return fmt.Sprintf("%s is %d %s%s away", what, r.N, r.Unit, plural)
	}
	return fmt.Sprintf("%s was %d %s%s ago", what, -r.N, r.Unit, plural)
}

func unreadable(name, value, kind string) string {
	return fmt.Sprintf("unreadable cell: %s holds %q, which is no %s", name, value, kind)
}

func orNothing(s string) string {
	if s == "" {
		return "empty"
	}
	return s
}

func having(was string) string {
	if was == "" {
		return ""
	}
	return ", having been " + was
}

func rows(n int) string {
	switch n {
	case 0:
		return ""
	case 1:
		return "; 1 row"
	}
	return fmt.Sprintf("; %d rows", n)
}

func duration(iso string) string {
	d, err := calendar.ParseDuration(iso)
	if err != nil {
		return iso
	}
	return d.Words()
}

// String implements fmt.Stringer: the words.
func (r Reason) String() string { return r.Words() }

// advice is what to do about what keeps a sender from sending, or a server from taking an email.
var advice = map[Code]string{
	NoSuchHost:         "Look at how it is spelt.",
	NothingListens:     "Look at the port, and whether the server runs.",
	NoAnswer:           "Look at the port, and whether a firewall is in the way.",
	Unreachable:        "Look at the name, the port and this machine's network.",
	NotTLS:             "Choose STARTTLS as its protection.",
	BeginsWithTLS:      "Choose TLS as its protection.",
	NoStartTLS:         "Choose TLS, with its port, which is mostly 465.",
	BadCertificate:     "Look at the server's name: it is the one that its certificate names.",
	Unprotected:        "Choose STARTTLS or TLS.",
	SignInRefused:      "Enter user name and password anew; many providers want a password made for programs.",
	NoSignIn:           "Leave the user name empty, or choose another port, mostly 587.",
	SignInWanted:       "Enter the user name and the password, and choose a port that is signed in at, mostly 587.",
	SenderRefused:      "Send from an address that the account may use, or have it allowed at the provider.",
	ServerBusy:         "It is tried again by itself.",
	TooManyConnections: "Fewer are opened from now on.",
	MessageTooLarge:    "Make its attachments or pictures smaller, then send it again.",
	MailboxFull:        "Send it again later, or write to another address.",
	Policy:             "Read what the server said; its provider can allow it. Then send it again.",
	NoMailbox:          "Fix the address.",
}

// Advice says what to do about a reason, as a sentence; "" where there is nothing.
func (r Reason) Advice() string { return advice[r.Code] }

// sameWords says which email said the same.
func (r Reason) sameWords() string {
	w := "same words as the email"
	if len(r.Rows) > 0 {
		w += " for " + strings.Join(r.Rows, ", ")
	}
	if r.Name != "" {
		w += " by “" + r.Name + "”"
	}
	if r.At != nil {
		w += ", " + r.at()
	}
	return w
}
