package plan

import (
	"strings"
	"testing"

	"nivot/internal/core/rule"
	"nivot/internal/core/value"
)

// Cases that the contract has settled since the first clauses.
func TestSettledClauses(t *testing.T) {
	for name, c := range map[string]struct {
		rule  string
		rows  []string
		edits []string
		want  string
	}{
		"same moment: fewest days from the anchor before any move": {
			`"trigger":{"kind":"date","column":"due","at":"09:00","offsets":[{"n":-3,"unit":"days"},{"n":-2,"unit":"days","template":"C"}]},"window":{"weekdays":["mon"]}`,
			[]string{"due=2027-03-20"}, nil, "22T00:00 L1 skip same moment; 22T00:00 L1 send C"},
		"same moment: moved earlier past the anchor's other side": {
			`"trigger":{"kind":"date","column":"due","at":"09:00","offsets":[{"n":1,"unit":"days"},{"n":4,"unit":"days","template":"C"}]},"window":{"weekdays":["wed"]},"shift":"earlier"`,
			[]string{"due=2027-03-18"}, nil, "17T09:00 L1 send; 17T09:00 L1 skip same moment"},
		"earlier keeps the time of day it was due: a moment's own": {
			`"trigger":{"kind":"date","column":"read","offsets":[{"n":0,"unit":"days"}]},"window":{"weekdays":["mon","tue","wed","thu","fri"],"from":"08:00","until":"17:00"},"shift":"earlier"`,
			[]string{"read=2027-03-20 14:20"}, nil, "19T14:20 L1 send"},
		"else the window's start": {
			`"trigger":{"kind":"date","column":"read","offsets":[{"n":0,"unit":"days"}]},"window":{"weekdays":["mon","tue","wed","thu","fri"],"from":"08:00","until":"17:00"},"shift":"earlier"`,
			[]string{"read=2027-03-20 19:20"}, nil, "19T08:00 L1 send"},
		"a schedule keeps it too": {
			`"trigger":{"kind":"schedule","start":"2027-03-20T10:10"},"window":{"weekdays":["fri"],"from":"08:00"},"shift":"earlier"`,
			[]string{"open=yes"}, nil, "19T10:10 L1 send"},
		"a step's time of day holds for its repeats in days": {
			`"trigger":{"kind":"added"},"then":{"steps":[{"after":"P1D","at":"01:30","template":"C","every":"P1D","times":3}]}`,
			nil, []string{"26T10:00 +L2 open=yes"},
			"26T10:02 L2 send; 27T01:30 L2 send step 1 C; 28T01:30 L2 send step 1 C; 29T00:30 L2 send step 1 C"},
	} {
		t.Run(name, func(t *testing.T) {
			if got := told(t, c.rule, c.rows, c.edits...); got != c.want {
				t.Errorf("got  %s\nwant %s", got, c.want)
			}
		})
	}
}

// Section 3, then: a step that names recipients takes no Cc or Bcc of the rule's.
func TestStepRecipients(t *testing.T) {
	for name, c := range map[string]struct{ step, want string }{
		"none of its own": {``, "to a@x.example cc boss@x.example bcc log@x.example"},
		"its own To":      {`,"to":[{"address":"b@x.example"}]`, "to b@x.example cc  bcc "},
		"its own Cc":      {`,"cc":[{"address":"c@x.example"}]`, "to a@x.example cc c@x.example bcc "},
		"its own Bcc":     {`,"bcc":[{"address":"d@x.example"}]`, "to a@x.example cc  bcc d@x.example"},
	} {
		t.Run(name, func(t *testing.T) {
			s, templates := desk()
			r, err := rule.Decode(
				[]byte(
					`{"name":"R","state":"on","send":[{"template":"A"}],"to":[{"column":"to"}],"cc":[{"address":"boss@x.example"}],"bcc":[{"address":"log@x.example"}],
				"trigger":{"kind":"added"},"then":{"steps":[{"after":"P1D","template":"C"` + c.step + `}]}}`))
			if err != nil {
				t.Fatal(err)
			}
			set := ready(s, r, templates)
			row := mkRow(s, "L1", "key=L1|to=a@x.example")
			o := rule.Occasion{Kind: rule.Added, Rule: "R", Row: "L1", Due: at("2027-03-15T09:00:00Z")}
			f := set.FollowUps(&o, true, o.Due)[0]
			v := set.Judge(f, row, f.Due, Memory{})[0]
			got := "to " + join(v.To) + " cc " + join(v.Cc) + " bcc " + join(v.Bcc)
			if got != c.want {
				t.Errorf("got %s, want %s", got, c.want)
			}
		})
	}
}

func join(boxes []value.Mailbox) string {
	var out []string
	for _, m := range boxes {
		out = append(out, m.String())
	}
	return strings.Join(out, ",")
}

// Section 3: "times" is at least 1, and a step's time of day goes with days.
func TestTimesAtLeastOnce(t *testing.T) {
	for _, bad := range []string{
		`"trigger":{"kind":"added"},"then":{"steps":[{"after":"P1D","template":"C","every":"P1D","times":0}]}`,
		`"trigger":{"kind":"added"},"then":{"steps":[{"after":"PT5H","at":"09:00","template":"C"}]}`,
		`"trigger":{"kind":"date","column":"due","offsets":[{"n":0,"unit":"days"}],"every":{"unit":"days","n":1,"times":0}}`,
		`"trigger":{"kind":"date","column":"due","offsets":[{"n":0,"unit":"days"}],"every":{"unit":"days","n":1,"times":-1}}`,
	} {
		s, _ := desk()
		r, err := rule.Decode([]byte(`{"name":"R","state":"on","send":[{"template":"A"}],"to":[{"column":"to"}],` + bad +
			`}`))
		if err == nil {
			err = r.Validate(rule.SheetScope{Sheet: s, Templates: map[string]bool{"A": true, "C": true}})
		}
		if err == nil {
			t.Errorf("accepted: %s", bad)
		}
	}
}
