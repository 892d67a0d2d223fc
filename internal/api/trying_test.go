package api

import (
	"fmt"
	"net/url"
	"strings"
	"testing"
	"testing/fstest"

	"nivot/internal/store"
)

// differing is a sheet whose rows' emails differ in language, in a part, in an empty field and in
// length; one of them is incomplete.
func differing() fstest.MapFS {
	files := fstest.MapFS{}
	for name, text := range map[string]string{
		"sheet.json": `{"format":"nivot-bundle/1","name":"Loans","zone":"Europe/London","locale":"en-GB","key":"Loan","settle":"PT0S",
			"columns":[{"name":"Loan","type":"text"},{"name":"Object","type":"text"},{"name":"Contact","type":"text"},{"name":"Email","type":"email"},{"name":"Language","type":"text"},{"name":"Value","type":"number"}]}`,
		"rows.csv": "Loan,Object,Contact,Email,Language,Value\nL-1,Bell,Ada Fenner,ada@lender.example,en,10\nL-2,Urn,Ben " +
			"Pike,ben@lender.example,de,10\nL-3,Drum,,cy@lender.example,en,9000\n" +
			"L-4,,Di Moss,di@lender.example,en,10\nL-5,A very long name of an object that no mailbox shows whole,Edda " +
			"Marsh,edda@lender.example,en,10\nL-6,Bell,Ada Fenner,ada@lender.example,en,10\n",
		"templates.json": `[{"name":"Return","subject":"[Object] is due","language":"Language","body":{"type":"doc","content":[
			{"type":"paragraph","content":[{"type":"text","text":"Dear "},{"type":"field","attrs":{"column":"Contact","fallback":"colleague"}}]},
			{"type":"part","attrs":{"if":{"column":"Value","op":">=","value":1000}},"content":[{"type":"paragraph","content":[{"type":"text","text":"It travels insured."}]}]}]},
			"variants":[{"language":"de","subject":"[Object] ist fällig","text":"Guten Tag [Contact: else Kollege]"}]},
			{"name":"Dear","subject":"[Object] is dear","text":"Insure it."}]`,
		"rules.json": `[{"name":"Return","state":"draft","trigger":{"kind":"by-hand"},"condition":{"column":"Loan","op":"is-not","value":"L-1"},
			"send":[{"if":{"column":"Value","op":">=","value":1000},"template":"Dear"},{"template":"Return"}],"to":[{"column":"Email"}]}]`,
	} {
		files[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return files
}

// Rows are picked by what differs in their emails, as few as show it all; tests of them go to
// colleagues alone, and stand in the log, marked, as they left.
func TestTryingOverHTTP(t *testing.T) {
	m := newMuseum(t)
	status, text := m.send(m.co, "/bundles", "loans.zip", zipped(t, differing()), nil)
	if status != 201 {
		t.Fatal(status, text)
	}
	var sheets []Sheet
	m.want(m.co, "GET", "/sheets", "", 200, &sheets)
	at := "/sheets/" + sheets[0].Id
	var list []Template
	m.want(m.co, "GET", "/templates", "", 200, &list)
	letter := list[0]
	if letter.Name != "Return" {
		letter = list[1]
	}
	var rows []TryRow
	m.want(m.co, "POST", at+"/test-rows", jsonOf(letter.Content), 200, &rows)
	var got []string
	for _, r := range rows {
		got = append(got, *r.Name+": "+strings.Join(*r.Why, "; "))
	}
	want := []string{"L-1: in the first language; without the part shown if value is at least 1000", "L-2: in German",
		"L-3: Contact is empty: its other words; with the part shown if value is at least 1000", "L-5: the longest values"}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("picked\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	var people ListColleagues200JSONResponse
	m.want(m.as(store.Editor), "GET", "/colleagues", "", 200, &people)
	other := people[0]
	for _, p := range people {
		if strings.HasPrefix(p.Email, "editor") {
			other = p
		}
	}
	var sent TestsSent
	ask := func(to string) string {
		return fmt.Sprintf(`{"template":%s,"saved":%q,"rows":%s%s}`, jsonOf(letter.Content), letter.Id, jsonOf(rows), to)
	}
	m.want(m.co, "POST", at+"/test-email", ask(fmt.Sprintf(`,"to":[%q]`, other.Email)), 200, &sent)
	if len(sent.Subjects) != 4 || sent.Subjects[1] != "Test: Urn ist fällig" || fmt.Sprint(sent.To) != "["+other.Name+
		"]" {
		t.Errorf("%+v", sent)
	}
	m.refused(m.co, "POST", at+"/test-email", ask(`,"to":["nobody"]`), 422, "colleagues who may sign in")
	m.refused(m.as(store.Reader), "POST", at+"/test-email", ask(""), 403, "")
	m.refused(m.co, "POST", at+"/test-email", strings.Replace(ask(""), `"row":"`+rows[0].Row+`"`, `"row":"999999"`, 1),
		404, "not there")
	var mails PracticePage
	m.want(m.co, "GET", "/practice/messages?find="+url.QueryEscape("Urn"), "", 200, &mails)
	if mails.Total != 1 || !strings.Contains(mails.Messages[0].To[0], other.Email) {
		t.Fatalf("%+v", mails)
	}
	// The log: in pages, newest first, each test as it left.
	var seen []string
	for query := "limit=3"; ; {
		page := m.log(query)
		for _, l := range page.Lines {
			if l.Test == nil || !strings.Contains(l.Outcome, "test of Return, sent by") {
				t.Errorf("%+v", l)
			}
			seen = append(seen, l.Row)
		}
		if page.Next == nil {
			break
		}
		query = "limit=3&cursor=" + url.QueryEscape(*page.Next)
	}
	if strings.Join(seen, " ") != "L-5 L-3 L-2 L-1" {
		t.Errorf("%v", seen)
	}
	for query, n := range map[string]int{"state=test": 4, "state=accepted": 0, "to=" + other.Email: 4,
		"to=lender.example": 0, "text=Urn": 1, "row=" + rows[2].Row: 1, "rule=x": 0} {
		if page := m.log(query); len(page.Lines) != n {
			t.Errorf("%s: %d lines, want %d", query, len(page.Lines), n)
		}
	}
	if csv := body(m.call(m.co, "GET", "/api/log.csv", "")); strings.Count(csv, ",test,") != 4 ||
		!strings.Contains(csv, "Test: Urn ist fällig") {
		t.Errorf("%s", csv)
	}
	urn := m.log("text=Urn").Lines[0]
	var test TestEmail
	m.want(m.co, "GET", "/tests/"+urn.Id, "", 200, &test)
	if test.Subject != "Test: Urn ist fällig" || test.Template.Name != "Return" || test.Template.Version != 1 ||
		test.Why != "in German" || !strings.Contains(test.Text, "Guten Tag Ben Pike") ||
		!strings.Contains(test.Text, "This is a test of “Return” for row L-2, sent to "+other.Name) {
		t.Errorf("%+v", test)
	}
	var mail PracticeDetail
	m.want(m.co, "GET", "/practice/messages/"+mails.Messages[0].Id, "", 200, &mail)
	if eml := body(m.call(m.co, "GET", "/api/tests/"+urn.Id+"/message.eml", "")); eml != mail.Source {
		t.Errorf("the log shows\n%s\nand what left was\n%s", eml, mail.Source)
	}
	// One for each wording of a rule, as it is saved.
	var worded []TryRow
	rule := m.rulesOf(sheets[0].Id)[0].Id
	m.want(m.co, "POST", at+"/test-rows?rule="+rule, jsonOf(letter.Content), 200, &worded)
	if len(worded) != 2 || *worded[0].Name != "L-3" || fmt.Sprint(*worded[0].Why) != "[in the words of Dear]" ||
		*worded[1].Name != "L-2" {
		t.Errorf("%s", jsonOf(worded))
	}
	var told TestsSent
	m.want(m.co, "POST", at+"/test-email", fmt.Sprintf(`{"template":%s,"rows":%s}`, jsonOf(letter.Content),
		jsonOf(worded)), 200, &told)
	if fmt.Sprint(told.Subjects) != "[Test: Drum is dear Test: Urn ist fällig]" {
		t.Errorf("%v", told.Subjects)
	}
	// Not an occasion: nothing counts it, nothing waits for it.
	if page := m.log(""); len(page.Counts) != 0 {
		t.Errorf("%v", page.Counts)
	}
	m.refused(m.co, "GET", "/tests/77", "", 404, "not there")
}

// Test emails to others are few; those to oneself are not counted.
func TestTestsToOthersAreFew(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	var list []Template
	m.want(m.co, "GET", "/templates", "", 200, &list)
	send := func(to string) (int, string) {
		return m.asks(m.co, "POST", "/sheets/"+sh.ID+"/test-email", `{"rows":[{"row":"1"}],"template":`+
			jsonOf(list[0].Content)+to+`}`)
	}
	for i := range testsAnHour {
		if status, text := send(`,"to":["reader@marrowby.example"]`); status != 200 {
			t.Fatalf("%d: %d %s", i, status, text)
		}
	}
	if status, text := send(`,"to":["coordinator@marrowby.example","reader@marrowby.example"]`); status != 429 ||
		!strings.Contains(text, "20 test emails") {
		t.Errorf("one more: %d %s", status, text)
	}
	if status, text := send(""); status != 200 {
		t.Errorf("to oneself: %d %s", status, text)
	}
}
