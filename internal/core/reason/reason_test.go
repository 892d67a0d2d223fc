package reason

import (
	"strings"
	"testing"
	"time"
)

// Every code has words of its own, and every reason is read back as written.
func TestEveryCode(t *testing.T) {
	at := time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC)
	seen := map[string]Code{}
	for _, c := range Codes {
		r := Reason{Code: c, Name: "return due", Value: "4 " + string(c), Unit: "day", N: 3, Step: 2, Clause: "state is out",
			Rows:    []string{"LN-1", "LN-2"},
			Mailbox: "a@x.example", At: &at, Zone: "Europe/London", Of: &Reason{Code: NoWording}}
		w := r.Words()
		if w == string(c) || strings.Contains(w, "%!") || strings.HasSuffix(w, ".") {
			t.Errorf("%s: %q", c, w)
		}
		if other, ok := seen[w]; ok {
			t.Errorf("%s and %s: both %q", c, other, w)
		}
		seen[w] = c
		if got := Decode(r.Encode()); got.Words() != w || got.Code != c {
			t.Errorf("%s read back: %q, want %q", c, got.Words(), w)
		}
	}
}

func TestWords(t *testing.T) {
	out := []Cell{{Name: "state", Value: "out"}}
	for want, r := range map[string]Reason{
		"return due is 14 days away; state is out": {Code: Date, Name: "return due",
			N: 14, Unit: "day", Cells: out},
		"return due is 1 day away": {Code: Date, Name: "return due",
			N: 1, Unit: "day"},
		"return due is today": {Code: Date, Name: "return due",
			Unit: "day"},
		"return due was 3 days ago": {Code: Date, Name: "return due",
			N: -3, Unit: "day"},
		"anniversary 2 of joined on is today": {Code: Date, Name: "joined on",
			Anniversary: 2, Unit: "day"},
		"state became agreed, having been asked for": {Code: Became, Name: "state",
			Value: "agreed", Was: "asked for"},
		"state became empty":             {Code: Became, Name: "state"},
		"the schedule came round; 1 row": {Code: Round, N: 1},
		"follow-up 1, again of: the row was added": {Code: FollowUp, Step: 1,
			Again: 2, Of: &Reason{Code: Added}},
		"condition false: state is back, not so that state is out": {Code: ConditionFalse,
			Clause: "state is out", Cells: []Cell{{Name: "state", Value: "back"}}},
		`unreadable cell: email holds "a@", which is no address`: {Code: Unreadable, Name: "email",
			Value: "a@", Unit: "address"},
		"LN-1: no usable address: email is empty": {Code: OfRow,
			Rows: []string{"LN-1"}, Of: &Reason{Code: NoAddress, Name: "email"}},
		"given up after 24 hours: deferred by the mail server": {Code: GivenUp,
			Of: &Reason{Code: PutOff}},
		"contact is empty and the template has no fallback for it": {Code: FieldEmpty,
			Cells: []Cell{{Name: "contact"}}},
		"it was due at Mon 15 Mar 09:00, could not go then, and the late limit has passed": {Code: TooLate,
			At: ptr(time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC)), Zone: "Europe/London"},
		"as it was said": Decode("as it was said"),
	} {
		if got := r.Words(); got != want {
			t.Errorf("%s: %q, want %q", r.Code, got, want)
		}
	}
	if !Decode("").IsZero() || (Reason{}).Encode() != "" {
		t.Error("no reason is not read back as none")
	}
}

func ptr[T any](v T) *T { return &v }
