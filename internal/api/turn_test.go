package api

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
)

// edited gives columns as they are changed.
func edited(cols []Column) []map[string]any {
	var out []map[string]any
	for _, c := range cols {
		var m map[string]any
		_ = json.Unmarshal([]byte(jsonOf(c)), &m)
		delete(m, "ops")
		delete(m, "result")
		out = append(out, m)
	}
	return out
}

func (s *site) sheetAt(at string) (out Sheet) {
	s.t.Helper()
	s.want(s.as("reader"), "GET", at, "", 200, &out)
	return out
}

// What columns, zone, working calendar and letters would make of the emails
// foreseen is told before, and is what a rule's effect says afterwards.
func TestConsequencesOverHTTP(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	at := "/sheets/" + sh.ID
	for _, r := range m.rulesOf(sh.ID) {
		m.want(m.co, "PUT", at+"/rules/"+r.Id+"/state", `{"state":"on"}`, 200, nil)
	}
	emails := func() (n int) {
		t.Helper()
		for _, r := range m.rulesOf(sh.ID) {
			var e Effect
			m.want(m.co, "POST", at+"/rules/effect", `{"whole":true,"body":`+jsonOf(r.Body)+`}`, 200, &e)
			n += e.Emails
		}
		return n
	}
	sum := func(c Consequences) (fresh, gone int) {
		for _, r := range c.Rules {
			fresh, gone = fresh+r.New, gone+r.Gone
		}
		return fresh, gone
	}
	before := emails()

	// The zone.
	var c Consequences
	m.want(m.co, "POST", at+"/consequences", `{"zone":"America/New_York"}`, 200, &c)
	if fresh, gone := sum(c); fresh != before || gone != before || c.Looked != 5 || c.Rows != 5 || len(c.Coming) == 0 {
		t.Errorf("another zone: %d are new, %d no longer go of %d; %+v", fresh, gone, before, c)
	}
	m.refused(m.co, "POST", at+"/consequences", `{"zone":"Marrowby"}`, 422, "zone")
	m.refused(m.co, "PATCH", at, `{"zone":"Local"}`, 422, "is not known")
	m.want(m.co, "PATCH", at, `{"zone":"Europe/Berlin"}`, 200, nil)
	if s := m.sheetAt(at); s.Zone != "Europe/Berlin" {
		t.Errorf("the zone is %s", s.Zone)
	}
	m.want(m.co, "PATCH", at, `{"zone":"Europe/London"}`, 200, nil)

	// The working calendar: nothing is saved by asking.
	var cal []NamedCalendar
	m.want(m.co, "GET", "/calendars", "", 200, &cal)
	own := cal[slices.IndexFunc(cal, func(c NamedCalendar) bool { return slices.Contains(c.Sheets, sh.Name) })]
	var turned []SheetConsequences
	days := `{"name":"Three days","weekdays":["mon","tue","wed"],"closed":["2027-03-24"]}`
	m.want(m.co, "POST", "/calendars/"+own.Id+"/consequences", days, 200, &turned)
	if len(turned) != 1 || turned[0].Name != sh.Name || turned[0].Zone != "Europe/London" {
		t.Fatalf("%+v", turned)
	}
	if fresh, gone := sum(turned[0].Consequences); fresh == 0 || gone == 0 {
		t.Errorf("other working days change nothing: %+v", turned)
	}
	m.refused(m.co, "POST", "/calendars/"+own.Id+"/consequences", `{"name":"x","weekdays":[],"closed":[]}`, 422, "")
	if after := emails(); after != before {
		t.Errorf("asking has changed %d emails to %d", before, after)
	}

	// The columns: a rule that is not whole any more is paused, and all it would write no longer goes.
	cols := m.sheetAt(at).Columns
	var kept []Column
	for _, col := range cols {
		if col.Name != "Insured until" {
			kept = append(kept, col)
		}
	}
	m.refused(m.co, "POST", at+"/columns/consequences", `{"columns":[]}`, 422, "key column")
	m.want(m.co, "POST", at+"/columns/consequences", `{"columns":`+jsonOf(edited(kept))+`}`, 200, &c)
	if len(c.Rules) != 1 || c.Rules[0].Name != "Insurance ends" || c.Rules[0].New != 0 || c.Rules[0].Gone == 0 {
		t.Errorf("without the insurance: %+v", c.Rules)
	}

	// A letter.
	var tpls []struct{ Id, Name, Sheet string }
	m.want(m.co, "GET", "/templates", "", 200, &tpls)
	id := tpls[slices.IndexFunc(tpls, func(x struct{ Id, Name, Sheet string }) bool {
		return x.Name == "Return" &&
			x.Sheet == sh.ID
	})].Id
	doc := func(content string) string {
		return `{"type":"doc","content":[{"type":"paragraph","content":[` + content + `]}]}`
	}
	letter := func(body string) string {
		return fmt.Sprintf(`{"name":"Return","subject":%s,"body":%s}`, doc(`{"type":"text","text":"Home"}`), doc(body))
	}
	var says []LetterConsequence
	m.want(m.co, "POST", at+"/templates/"+id+"/consequences", letter(`{"type":"text","text":"Come home"}`), 200, &says)
	if len(says) != 1 || says[0].Name != "Return reminder" || says[0].Emails == 0 || says[0].Partial {
		t.Errorf("%+v", says)
	}
	m.refused(m.co, "POST", at+"/templates/"+id+"/consequences", letter(`{"type":"field","attrs":{"column":"c99"}}`), 422,
		"not there")
	m.refused(m.co, "POST", at+"/templates/none/consequences", letter(`{"type":"text","text":"x"}`), 404, "")
}

// Columns that belong together over HTTP: what is derived of them is told, may be
// named by a rule, and is no column that could be changed.
func TestGroupsOverHTTP(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	at := "/sheets/" + sh.ID
	cols := edited(m.sheetAt(at).Columns)
	cols = append(cols, map[string]any{"name": "Fee 2026", "type": "number", "group": "Fee",
		"format": map[string]any{"decimals": 2}}, map[string]any{"name": "Fee 2027", "type": "number", "group": " fee "})
	m.want(m.co, "PUT", at+"/columns", `{"columns":`+jsonOf(cols)+`}`, 200, nil)
	s := m.sheetAt(at)
	var names []string
	for _, d := range s.Derived {
		names = append(names, d.Name+" "+string(*d.Result))
	}
	if got := strings.Join(names,
		", "); got != "latest of Fee number, latest filled of Fee number, latest name of Fee text, count filled of Fee "+
		"number" {
		t.Errorf("derived: %s", got)
	}
	if last := s.Columns[len(s.Columns)-1]; last.Group == nil || *last.Group != "Fee" {
		t.Errorf("the last column is %+v", last)
	}
	for name, bad := range map[string][]map[string]any{
		"is what is said of a group": append(edited(s.Columns), map[string]any{"name": "Latest of Fee", "type": "text"}),
		"not there": append(edited(s.Columns), map[string]any{"id": s.Derived[0].Id, "name": "Mine",
			"type": "number"}),
	} {
		m.refused(m.co, "PUT", at+"/columns", `{"columns":`+jsonOf(bad)+`}`, 422, name)
	}
	rule := m.rulesOf(sh.ID)[0]
	var body map[string]any
	_ = json.Unmarshal([]byte(jsonOf(rule.Body)), &body)
	body["condition"] = map[string]any{"column": s.Derived[1].Id, "op": ">=", "value": 10}
	var said RuleSaid
	m.want(m.co, "POST", at+"/rules/sentence", `{"body":`+jsonOf(body)+`}`, 200, &said)
	if len(said.Faults) > 0 || !strings.Contains(jsonOf(said.Sentence), "latest filled of Fee") {
		t.Errorf("%s %+v", jsonOf(said.Sentence), said.Faults)
	}
	var row struct{ Rows []Row }
	m.want(m.co, "POST", at+"/rows/query", `{"offset":0,"limit":1}`, 200, &row)
	m.want(m.co, "POST", at+"/changes",
		fmt.Sprintf(`{"kind":"edit","steps":[{"op":"edit","row":%q,"cells":{%q:"12.5"}}]}`, row.Rows[0].Id,
			s.Columns[len(s.Columns)-2].Id), 200, nil)
	var r struct{ Cells int }
	m.want(m.co, "POST", at+"/changes", fmt.Sprintf(`{"kind":"edit","steps":[{"op":"edit","row":%q,"cells":{%q:"1"}}]}`,
		row.Rows[0].Id, s.Derived[0].Id), 200, &r)
	if r.Cells != 0 {
		t.Error("what is worked out has been written")
	}
	m.want(m.co, "POST", at+"/rows/query", fmt.Sprintf(`{"filter":%s,"offset":0,"limit":10}`, jsonOf(body["condition"])),
		200, &row)
	if len(row.Rows) != 1 {
		t.Errorf("%d rows have a fee", len(row.Rows))
	}
}

// A sender's pause between batches is kept and bounded; a round-up is left out by
// its identity.
func TestPausesAndRoundUpsOverHTTP(t *testing.T) {
	m := newMuseum(t)
	var senders []map[string]any
	m.want(m.co, "GET", "/setup/senders", "", 200, &senders)
	id := senders[0]["id"].(string)
	save := func(more string) string {
		return `{"name":"Loans desk","address":"loans@marrowby.example","host":"127.0.0.1","port":25,"security":"none",` +
			more + `}`
	}
	m.want(m.admin, "PUT", "/setup/senders/"+id, save(`"batch":50,"pauseSeconds":600`), 200, nil)
	m.want(m.co, "GET", "/setup/senders", "", 200, &senders)
	if senders[0]["batch"] != 50.0 || senders[0]["pauseSeconds"] != 600.0 {
		t.Errorf("%v", senders[0])
	}
	m.refused(m.admin, "PUT", "/setup/senders/"+id, save(`"pauseSeconds":-1`), 422, "pauseSeconds")

	sh := m.bundle("cases")
	at := "/sheets/" + sh.ID
	up := slices.IndexFunc(m.rulesOf(sh.ID),
		func(r Rule) bool { return strings.Contains(jsonOf(r.Body), `"groupBy":"recipient"`) })
	if up < 0 {
		t.Fatal("no rule writes round-ups")
	}
	rule := m.rulesOf(sh.ID)[up]
	m.want(m.co, "PUT", at+"/rules/"+rule.Id+"/state", `{"state":"on"}`, 200, nil)
	lines := func() (all Coming) {
		t.Helper()
		m.want(m.co, "GET", "/coming?to=example", "", 200, &all)
		return all
	}
	roundUp := func(occasion string) ComingLine {
		t.Helper()
		all := lines()
		i := slices.IndexFunc(all.Lines, func(l ComingLine) bool {
			return l.Rows > 0 &&
				(occasion == "" || l.Occasion == occasion)
		})
		if i < 0 {
			t.Fatalf("no round-up is to come: %+v", all)
		}
		return all.Lines[i]
	}
	x, total := roundUp(""), lines().Total
	if x.RowId != "" || x.Left || x.RuleId != rule.Id || x.Subject == "" {
		t.Errorf("%+v", x)
	}
	path := at + "/round-ups/" + rule.Id + "/" + x.Occasion
	m.refused(m.co, "POST", path, `{"what":"shift","days":1}`, 422, "left out")
	m.refused(m.co, "POST", at+"/round-ups/"+rule.Id+"/"+strings.Repeat("0", 32), `{"what":"leave-out"}`, 422,
		"not to come any more")
	m.want(m.co, "POST", path, `{"what":"leave-out","why":"on leave"}`, 204, nil)
	if y := roundUp(x.Occasion); !y.Left || lines().Total != total-1 {
		t.Errorf("left out: %+v", y)
	}
	m.want(m.co, "POST", path, `{"what":"as-it-comes"}`, 204, nil)
	if y := roundUp(x.Occasion); y.Left || lines().Total != total {
		t.Errorf("taken back: %+v", y)
	}
}
