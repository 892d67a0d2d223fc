// Package reason holds why an email goes, waits, or does not go: a code with
// its parameters. What decides looks at the code; sentences are made of it only
// where they are shown (Words). A reason tells what was so then, and needs
// neither the rule nor the row to be said.
package reason

import (
	"encoding/json"
	"time"
)

// Code says why, in one of a fixed list of words.
type Code string

// What makes an occasion: why an email goes.
const (
	Date     Code = "date"      // a date is so many days away: Name, N, Unit, Anniversary
	Became   Code = "became"    // a cell became Value, having been Was
	Reached  Code = "reached"   // a number reached Value
	Added    Code = "added"     // the row was added
	Changed  Code = "changed"   // one of the columns changed: Name
	Round    Code = "round"     // the schedule came round; of a round-up N rows
	ByHand   Code = "by-hand"   // a person sent it
	FollowUp Code = "follow-up" // Step (and Again) of Of
)

// Why there is no email for an occasion: skipped.
const (
	RowGone         Code = "row-gone"
	RowDeleted      Code = "row-deleted"
	SameMoment      Code = "same-moment"
	Replaced        Code = "replaced"        // a later sending by hand takes its place
	LeftAgain       Code = "left-again"      // what a delayed reaction was about is over
	ConditionFalse  Code = "condition-false" // Clause does not hold of Cells
	NoWording       Code = "no-wording"
	RepeatOnce      Code = "repeat-once"
	RepeatApart     Code = "repeat-apart" // Value: the duration, ISO 8601
	SameWords       Code = "same-words"   // as an email of the rule Name for Rows, At; Value: its occasion
	DoNotEmail      Code = "do-not-email"
	Stopped         Code = "stopped" // Clause: the stop condition
	NoSuchStep      Code = "no-such-step"
	NotRecipient    Code = "not-recipient" // Mailbox is none any more
	FirstDidNotGo   Code = "first-did-not-go"
	DateMoved       Code = "date-moved"
	RuleGone        Code = "rule-gone"
	SheetGone       Code = "sheet-gone"
	BecameMailboxes Code = "became-mailboxes" // mended: each address has an email of its own
)

// Why an email cannot be written yet: incomplete.
const (
	Unreadable Code = "unreadable" // Name holds Value, which is no Unit
	ColumnGone Code = "column-gone"
	NoAddress  Code = "no-address"  // Name is empty
	FieldEmpty Code = "field-empty" // Cells: the empty and the unreadable ones, and those whose files do not go
	RowsDiffer Code = "rows-differ" // of a round-up: a field outside its table, of Rows
	OfRow      Code = "of-row"      // of a round-up: Of stands against Rows[0]
)

// Why an email is held.
const (
	SendingOff Code = "sending-off"
	AsksFirst  Code = "asks-first"
	FirstRun   Code = "first-run"
	Window     Code = "window" // fixed, and waits for its send window
	Baseline   Code = "baseline"
	Brake      Code = "brake"
	DailyCap   Code = "daily-cap"
	Restored   Code = "restored"  // the database went back in time: it may have gone
	EditAsks   Code = "edit-asks" // who made the edit that set it off wants to look first
)

// Why an email is missed, or was left out by a person.
const (
	TooLate       Code = "too-late"       // was due At
	NotMended     Code = "not-mended"     // within the late limit: Of
	NoRoom        Code = "no-room"        // under the daily cap within seven days
	LookedThrough Code = "looked-through" // dropped when the rule was looked through
	LeftOut       Code = "left-out"       // by itself: Value is why, if they said; Mailbox who
	BatchStopped  Code = "batch-stopped"  // the sending by hand was stopped before its turn
	ChainStopped  Code = "chain-stopped"  // Value: who has stopped the follow-ups of the row
	PersonLimit   Code = "person-limit"   // Mailbox has had N within Value
)

// What kept a try from succeeding: deferred, failed or in doubt.
const (
	Unreachable    Code = "unreachable" // Value: the server's name and port; Was: what the network said
	PutOff         Code = "put-off"
	LostBefore     Code = "lost-before" // contact with the mail server, before the hand-over
	LostAfter      Code = "lost-after"  // after the hand-over, before the reply
	LostLedger     Code = "lost-ledger" // contact with the database, before the hand-over
	Refused        Code = "refused"     // Value: what the server said
	SomePutOff     Code = "some-put-off"
	GivenUp        Code = "given-up" // after 24 hours: Of
	ProgramStopped Code = "program-stopped"
	CannotWrite    Code = "cannot-write" // the message cannot be made: Value
	CannotRead     Code = "cannot-read"  // the ledger's entry cannot be read: Value
	ProgramFault   Code = "program-fault"
)

// What keeps a sender from sending anything, or its server from being talked to. Value is the server's name
// and port.
const (
	NoSender           Code = "no-sender"
	NoSuchHost         Code = "no-such-host"
	NothingListens     Code = "nothing-listens"
	NoAnswer           Code = "no-answer"
	NotTLS             Code = "not-tls"         // it does not begin with TLS, as it was to
	BeginsWithTLS      Code = "begins-with-tls" // it does, and was not to
	NoStartTLS         Code = "no-starttls"
	BadCertificate     Code = "bad-certificate"
	Unprotected        Code = "unprotected" // the password would be
	SignInRefused      Code = "sign-in-refused"
	NoSignIn           Code = "no-sign-in"     // the server offers none that is known
	SignInWanted       Code = "sign-in-wanted" // the server wants one
	SenderRefused      Code = "sender-refused" // the address
	ServerBusy         Code = "server-busy"
	TooManyConnections Code = "too-many-connections"
)

// What a server has against one email, not against its sender.
const (
	MessageTooLarge Code = "message-too-large"
	MailboxFull     Code = "mailbox-full"
	Policy          Code = "policy"
	NoMailbox       Code = "no-mailbox"
)

// OfSender reports whether it is the sender, or its server, that keeps every email from going.
func (c Code) OfSender() bool {
	switch c {
	case Unreachable, NoSender, NoSuchHost, NothingListens, NoAnswer, NotTLS, BeginsWithTLS, NoStartTLS, BadCertificate,
		Unprotected, SignInRefused, NoSignIn, SignInWanted, SenderRefused, ServerBusy, TooManyConnections:
		return true
	}
	return false
}

// OfAddress reports whether a refusal lays it on the address, which somebody may put right.
func (c Code) OfAddress() bool { return c == Refused || c == NoMailbox }

// Said stands for a sentence of a ledger that is older than codes.
const Said Code = "said"

// Codes lists every code, in the order of this file.
var Codes = []Code{Date, Became, Reached, Added, Changed, Round, ByHand, FollowUp,
	RowGone, RowDeleted, SameMoment, Replaced, LeftAgain, ConditionFalse, NoWording, RepeatOnce, RepeatApart,
	SameWords,
	DoNotEmail, Stopped, NoSuchStep,
	NotRecipient, FirstDidNotGo,
	DateMoved, RuleGone, SheetGone, BecameMailboxes,
	Unreadable, ColumnGone, NoAddress, FieldEmpty, RowsDiffer, OfRow,
	SendingOff, AsksFirst, FirstRun, Window, Baseline, Brake, DailyCap, Restored, EditAsks,
	TooLate, NotMended, NoRoom, LookedThrough, LeftOut, BatchStopped, ChainStopped, PersonLimit,
	Unreachable, PutOff, LostBefore, LostAfter, LostLedger, Refused, SomePutOff, GivenUp, ProgramStopped, CannotWrite,
	CannotRead, ProgramFault,
	NoSender, NoSuchHost, NothingListens, NoAnswer, NotTLS, BeginsWithTLS, NoStartTLS, BadCertificate, Unprotected,
	SignInRefused, NoSignIn, SignInWanted, SenderRefused, ServerBusy, TooManyConnections,
	MessageTooLarge, MailboxFull, Policy, NoMailbox, Said}

// PassesByItself reports whether what holds an email passes without a person.
func (c Code) PassesByItself() bool {
	return c == SendingOff || c == DailyCap || c == Window || c == PersonLimit
}

// Cell is a cell as it was when something was decided on it.
type Cell struct {
	Column string `json:"column,omitempty"` // id
	Name   string `json:"name"`
	Value  string `json:"value,omitempty"` // as shown; empty: it was empty
	Bad    bool   `json:"bad,omitempty"`   // Value cannot be read
	Kind   string `json:"kind,omitempty"`  // Bad: what it should be, such as "date"; else Files, TooLarge or ""
}

// What is wrong with a cell that can be read.
const (
	Files    = "files"     // the email carries its files; Value: those that are not there
	TooLarge = "too large" // its files are more than an email carries
)

// Reason is why. Which parameters a code has stands beside it.
type Reason struct {
	Code        Code       `json:"code"`
	Column      string     `json:"column,omitempty"` // id
	Name        string     `json:"name,omitempty"`   // of the column, as it was called
	Value       string     `json:"value,omitempty"`
	Was         string     `json:"was,omitempty"`
	N           int        `json:"n,omitempty"` // units away; negative: ago
	Unit        string     `json:"unit,omitempty"`
	Anniversary int        `json:"anniversary,omitempty"`
	Step        int        `json:"step,omitempty"`
	Again       int        `json:"again,omitempty"`
	Clause      string     `json:"clause,omitempty"`
	Cells       []Cell     `json:"cells,omitempty"` // what the condition looked at
	Rows        []string   `json:"rows,omitempty"`  // by name
	Mailbox     string     `json:"mailbox,omitempty"`
	At          *time.Time `json:"at,omitempty"`
	Zone        string     `json:"zone,omitempty"` // of At, IANA
	Of          *Reason    `json:"of,omitempty"`
}

// IsZero reports whether there is no reason.
func (r Reason) IsZero() bool { return r.Code == "" }

// Encode writes the reason as JSON; "" for none.
func (r Reason) Encode() string {
	if r.IsZero() {
		return ""
	}
	b, err := json.Marshal(r.clipped())
	if err != nil {
		panic(err) // strings, numbers and an instant: nothing that can fail
	}
	return string(b)
}

// longest is how many runes of a value a reason keeps.
const longest = 300

func (r Reason) clipped() Reason {
	r.Value, r.Was, r.Clause = clip(r.Value), clip(r.Was), clip(r.Clause)
	if r.Of != nil {
		of := r.Of.clipped()
		r.Of = &of
	}
	cells := make([]Cell, 0, len(r.Cells))
	for _, c := range r.Cells {
		c.Value = clip(c.Value)
		cells = append(cells, c)
	}
	r.Cells = cells
	return r
}

func clip(s string) string {
	if len(s) <= longest {
		return s
	}
	if u := []rune(s); len(u) > longest {
		return string(u[:longest-1]) + "…"
	}
	return s
}

// Decode reads what Encode wrote. Other text is taken as Said.
func Decode(s string) Reason {
	var r Reason
	if s == "" {
		return r
	}
	if err := json.Unmarshal([]byte(s), &r); err != nil || r.Code == "" {
		return Reason{Code: Said, Value: s}
	}
	return r
}
