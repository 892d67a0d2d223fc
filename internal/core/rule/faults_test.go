package rule

import (
	"errors"
	"strings"
	"testing"

	"nivot/internal/core/sheet"
)

func scope(s *sheet.Sheet) SheetScope {
	return SheetScope{Sheet: s, Templates: map[string]bool{"t": true, "u": true}}
}

// Triggers that are in order, for the tests to hang other parts on.
const (
	onDate      = `{"kind":"date","column":"due","offsets":[{"n":-7,"unit":"days"}]}`
	onChange    = `{"kind":"change","column":"state","to":["out"]}`
	onSchedule  = `{"kind":"schedule","start":"2027-03-19T15:30","rrule":"FREQ=WEEKLY;BYDAY=FR"}`
	onThreshold = `{"kind":"threshold","column":"hum","op":">=","limit":{"column":"lim"}}`
	onEdit      = `{"kind":"edited","columns":["due"]}`
)

func withTrigger(trigger, more string) string {
	return `{"name":"x","trigger":` + trigger + `,"send":[{"template":"t"}],"to":[{"column":"mail"}]` + more + `}`
}

// Section 7: every fault says where it is, as a JSON pointer (RFC 6901), and
// what would be right.
func TestRuleFaults(t *testing.T) {
	s := loans()
	for _, c := range []struct{ in, pointer, says string }{
		{`[]`, "", "an object is wanted"},
		{`{"name":"x","trigger":` + onDate + `,"sned":[]}`, "/sned", "there is no such name here"},
		{`{"name":7,"trigger":` + onDate + `}`, "/name", "text is wanted"},
		{withTrigger(`7`, ""), "/trigger", "a trigger is an object with a kind"},
		{withTrigger(`{"kind":"moon"}`, ""), "/trigger/kind", "is not known; use date, change"},
		{withTrigger(`{"kind":"added","column":"due"}`, ""), "/trigger/column", "there is no such name here"},
		{withTrigger(onDate, `,"zone":"Mars/Base"`), "/zone", "use a name like Europe/London"},
		{withTrigger(onDate, `,"shift":"sideways"`), "/shift", "later, earlier or none"},
		{withTrigger(onDate, `,"hold":"perhaps"`), "/hold", "none, first-run or always"},
		{withTrigger(onDate, `,"late":"soon"`), "/late", ""},
		{withTrigger(onDate, `,"repeat":"sometimes"`), "/repeat", "once-per-row"},
		{withTrigger(onDate, `,"repeat":{"not-more-often-than":"weekly"}`), "/repeat/not-more-often-than", ""},
		{withTrigger(onEdit, `,"brake":{"count":0,"share":0.5}`), "/brake/count", "1 or more"},
		{withTrigger(onEdit, `,"brake":{"count":20,"share":1.5}`), "/brake/share", "at most 1"},
		{withTrigger(onDate, `,"then":{"steps":[]}`), "/then/steps", "at least one step"},
		{withTrigger(onDate, `,"then":{"steps":[{"after":"P1D","template":"gone"}]}`), "/then/steps/0/template",
			"choose a template"},
		{withTrigger(onDate, `,"then":{"steps":[{"after":"PT2H","at":"08:30","template":"t"}]}`), "/then/steps/0/at",
			"goes with days and weeks"},
		{withTrigger(onDate, `,"then":{"steps":[{"after":"P1D","template":"t","times":3}]}`), "/then/steps/0/times",
			"goes with every"},
		{withTrigger(onDate, `,"then":{"steps":[{"after":"P1D","template":"t","to":[{"column":"due"}]}]}`),
			"/then/steps/0/to/0/column", "type email"},
		{withTrigger(onDate, `,"cc":[{"column":"name"}]`), "/cc/0/column", "type email"},
		{withTrigger(onDate, `,"cc":[{}]`), "/cc/0", "a column, an address or a person"},
		{withTrigger(onDate, `,"bcc":[{"address":"nobody at all"}]`), "/bcc/0/address", ""},
		{withTrigger(onDate, `,"condition":{"all":[{"column":"hum","op":"contains","value":"5"}]}`), "/condition/all/0/op",
			"does not go with a column of type number"},
		{`{"name":"x","trigger":` + onDate + `,"send":[],"to":[{"column":"mail"}]}`, "/send", "which template"},
		{`{"name":"x","trigger":` + onDate + `,"send":[{"template":"gone"}],"to":[{"column":"mail"}]}`, "/send/0/template",
			"choose a template"},
		{`{"name":"x","trigger":` + onDate + `,"send":[{"template":"t"},{"template":"u"}],"to":[{"column":"mail"}]}`,
			"/send/0/if", "only the last template"},
		{`{"name":"x","trigger":` + onDate + `,"send":[{"template":"t"}],"to":[]}`, "/to", "to whom"},
		{`{"name":" ","trigger":` + onDate + `,"send":[{"template":"t"}],"to":[{"column":"mail"}]}`, "/name",
			"needs a name"},

		{withTrigger(`{"kind":"date","column":"name","offsets":[{"n":1,"unit":"days"}]}`, ""), "/trigger/column",
			"date, or date and time"},
		{withTrigger(`{"kind":"date","column":"due","offsets":[]}`, ""), "/trigger/offsets", "how many days"},
		{withTrigger(`{"kind":"date","column":"due","offsets":[{"n":1,"unit":"moons"}]}`, ""), "/trigger/offsets/0/unit",
			"days, working-days, hours or minutes"},
		{withTrigger(`{"kind":"date","column":"due","offsets":[{"n":1,"unit":"hours"}]}`, ""), "/trigger/offsets/0/unit",
			"count from a date and time"},
		{withTrigger(`{"kind":"date","column":"due","offsets":[{"n":99999,"unit":"days"}]}`, ""), "/trigger/offsets/0/n",
			"too far"},
		{withTrigger(`{"kind":"date","column":"due","offsets":[{"n":1,"unit":"days"},{"n":1,"unit":"days"}]}`, ""),
			"/trigger/offsets/1", "stands there twice"},
		{withTrigger(`{"kind":"date","column":"due","offsets":[{"n":1,"unit":"days"}],"at":"25:00"}`, ""), "/trigger/at",
			""},
		{withTrigger(`{"kind":"date","column":"due","offsets":[{"n":1,"unit":"days"}],"every":{"unit":"moons","n":1}}`, ""),
			"/trigger/every/unit", "days, weeks, months or years"},
		{withTrigger(`{"kind":"date","column":"due","offsets":[{"n":1,"unit":"days"}],"every":{"unit":"years","n":0}}`, ""),
			"/trigger/every/n", "1 or more"},

		{withTrigger(`{"kind":"change","column":"gone","to":null}`, ""), "/trigger/column", "not there"},
		{withTrigger(`{"kind":"change","column":"state","to":[]}`, ""), "/trigger/to", "say what it becomes"},
		{withTrigger(`{"kind":"change","column":"state","to":["lost"]}`, ""), "/trigger/to/0", ""},
		{withTrigger(`{"kind":"change","column":"hum","to":[{"column":"lim"}]}`, ""), "/trigger/to/0",
			"a value is wanted, not a column"},
		{withTrigger(`{"kind":"edited","columns":[]}`, ""), "/trigger/columns", "say which columns"},
		{withTrigger(`{"kind":"edited","columns":["due","gone"]}`, ""), "/trigger/columns/1", "not there"},

		{withTrigger(`{"kind":"threshold","column":"name","op":">","limit":5}`, ""), "/trigger/column", "type number"},
		{withTrigger(`{"kind":"threshold","column":"hum","op":"is","limit":5}`, ""), "/trigger/op", ">=, >, <= or <"},
		{withTrigger(`{"kind":"threshold","column":"hum","op":">","limit":{"column":"name"}}`, ""), "/trigger/limit/column",
			"type number"},
		{withTrigger(`{"kind":"threshold","column":"hum","op":">","limit":5,"rearm":9}`, ""), "/trigger/rearm",
			"beyond the limit on the other side"},
		{withTrigger(`{"kind":"threshold","column":"hum","op":"<","limit":5,"rearm":4}`, ""), "/trigger/rearm",
			"beyond the limit on the other side"},
		{withTrigger(`{"kind":"threshold","column":"hum","op":">","limit":5,"rearm":{"percent":-1}}`, ""),
			"/trigger/rearm/percent", "0 or more"},

		{withTrigger(`{"kind":"schedule","start":"Friday"}`, ""), "/trigger/start", "2027-03-19T15:30"},
		{withTrigger(`{"kind":"schedule","start":"2027-03-19T15:30","rrule":"FREQ=SOMETIMES"}`, ""), "/trigger/rrule", ""},
		{withTrigger(onDate, `,"groupBy":"recipient"`), "/groupBy", "goes by a schedule"},
		{withTrigger(onSchedule, `,"groupBy":"colour"`), "/groupBy", "grouped by recipient"},
		{withTrigger(onSchedule, `,"groupBy":"recipient","each":true`), "/each", "one email per recipient already"},
		{withTrigger(onSchedule, `,"groupBy":"recipient","repeat":"once-per-row"`), "/repeat", "narrow its condition"},
		{withTrigger(onSchedule, `,"groupBy":"recipient","then":{"steps":[{"after":"P1D","template":"t"}]}`), "/then",
			"the next round-up is one"},
	} {
		r, err := Decode([]byte(c.in))
		if err == nil {
			err = r.Validate(scope(s))
		}
		var fe *FieldError
		if !errors.As(err, &fe) {
			t.Errorf("%s\nis accepted, or without a place: %v", c.in, err)
			continue
		}
		if fe.Pointer != c.pointer || !strings.Contains(fe.Message, c.says) || fe.Message == "" {
			t.Errorf("%s\n%s: %s\nwant %s: … %s", c.in, fe.Pointer, fe.Message, c.pointer, c.says)
		}
	}
}
