package api

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"nivot/internal/store"
)

// People come by a link that works once, change roles, and are shut out; what
// they had open ends with it.
func TestPeople(t *testing.T) {
	s := newSite(t, true)
	admin := s.as(store.Administrator)
	var people []Person
	s.want(admin, "GET", "/people", "", 200, &people)
	if len(people) != 4 || jsonOf(people) == "" || strings.Contains(jsonOf(people), "argon2") {
		t.Fatalf("%+v", people)
	}
	byRole := map[Role]string{}
	for _, p := range people {
		byRole[p.Role] = p.Id
	}
	s.refused(admin, "POST", "/people", `{"name":"Rosa","email":"editor@marrowby.example","role":"editor"}`, 422,
		"already")
	s.refused(admin, "POST", "/people", `{"name":"Rosa","email":"rosa","role":"editor"}`, 422, "/email")
	s.refused(admin, "POST", "/people", `{"name":"Rosa","email":"rosa@marrowby.example","role":"owner"}`, 422, "/role")
	var added AddPerson200JSONResponse
	s.want(admin, "POST", "/people", `{"name":"Rosa Moss","email":"Rosa@Marrowby.example","role":"reader"}`, 200, &added)
	if added.Person.SignedUp || added.Person.Role != "reader" ||
		!strings.HasPrefix(added.Link, "http://127.0.0.1:8420/welcome/") {
		t.Errorf("%+v", added)
	}
	// A newer link makes the older one void.
	var again NewLink200JSONResponse
	s.want(admin, "POST", "/people/"+added.Person.Id+"/link", "", 200, &again)
	token := func(link string) string { return link[strings.LastIndex(link, "/")+1:] }
	rosa := s.as("")
	s.refused(rosa, "GET", "/links/"+token(added.Link), "", 404, "new one")
	var link GetLink200JSONResponse
	s.want(rosa, "GET", "/links/"+token(again.Link), "", 200, &link)
	if link.Purpose != "invite" || link.Name != "Rosa Moss" {
		t.Errorf("%+v", link)
	}
	who := `{"name":"Rosa Moss","email":"rosa@marrowby.example","password":"a-long-word-of-hers"}`
	s.refused(rosa, "POST", "/links/"+token(again.Link), strings.Replace(who, "rosa@", "editor@", 1), 422, "already")
	var session Session
	s.want(rosa, "POST", "/links/"+token(again.Link), who, 200, &session)
	if session.Person == nil || session.Person.Role != "reader" || !session.Started {
		t.Errorf("%+v", session)
	}
	s.refused(rosa, "POST", "/sheets/x/rows", `{"cells":{}}`, 403, "editor")
	// A new role counts at once: what was open is signed in to anew.
	s.want(admin, "PATCH", "/people/"+added.Person.Id, `{"role":"editor"}`, 200, nil)
	s.refused(rosa, "POST", "/sheets/x/rows", `{"cells":{}}`, 401, "Sign in")
	s.want(rosa, "POST", "/session", `{"email":"rosa@marrowby.example","password":"a-long-word-of-hers"}`, 200, nil)
	s.refused(rosa, "POST", "/sheets/x/rows", `{"cells":{}}`, 404, "not there")
	s.want(admin, "PATCH", "/people/"+added.Person.Id, `{"disabled":true}`, 200, nil)
	s.refused(rosa, "GET", "/sheets", "", 401, "")
	s.refused(rosa, "POST", "/session", `{"email":"rosa@marrowby.example","password":"a-long-word-of-hers"}`, 401, "")
	s.want(admin, "PATCH", "/people/"+added.Person.Id, `{"disabled":false}`, 200, nil)
	s.want(rosa, "POST", "/session", `{"email":"rosa@marrowby.example","password":"a-long-word-of-hers"}`, 200, nil)
	// Nobody shuts oneself out; nobody who is not there is changed.
	s.refused(admin, "PATCH", "/people/"+byRole["administrator"], `{"role":"reader"}`, 422, "another administrator")
	s.refused(admin, "PATCH", "/people/nobody", `{"role":"reader"}`, 404, "not there")
	// Signing out ends the session.
	s.want(rosa, "DELETE", "/session", "", 204, nil)
	s.refused(rosa, "GET", "/sheets", "", 401, "")
	s.want(rosa, "GET", "/session", "", 200, &session)
}

// What is set up: senders, whose passwords never come back; the calendar; who
// is never written to.
func TestSetupOverHTTP(t *testing.T) {
	m := newMuseum(t)
	var made Sender
	sender := `{"name":"Front desk","address":"desk@marrowby.example","host":"mail.marrowby.example","port":587,"security":"starttls","username":"desk","password":"weathercock","dailyCap":200,"zone":"Europe/London"}`
	m.want(m.admin, "POST", "/setup/senders", sender, 201, &made)
	if !made.HasPassword || made.DailyCap != 200 || made.Zone != "Europe/London" {
		t.Errorf("%+v", made)
	}
	text := body(m.call(m.co, "GET", "/api/setup/senders", ""))
	if strings.Contains(text, "weathercock") || !strings.Contains(text, "mail.marrowby.example") {
		t.Error(text)
	}
	recs, err := m.st.Senders(t.Context())
	if err != nil || len(recs) != 2 {
		t.Fatal(recs, err)
	}
	for _, r := range recs {
		if strings.Contains(string(r.SealedPassword), "weathercock") {
			t.Error("a password is kept as it was typed")
		}
	}
	at := "/setup/senders/" + made.Id
	for change, want := range map[string]string{
		`"port":587=>"port":588`:                           "type the password again",
		`"username":"desk"=>"username":"other"`:            "type the password again",
		`"Europe/London"=>"Mars/Marrowby"`:                 "/zone",
		`"desk@marrowby.example"=>"desk at marrowby"`:      "/address",
		`"starttls"=>"none"`:                               "/security",
		`"port":587=>"port":0`:                             "/port",
		`"host":"mail.marrowby.example"=>"host":""`:        "/host",
		`"starttls"=>"perhaps"`:                            "/security",
		`"name":"Front desk"=>"name":"Front desk","x":"y"`: "x",
	} {
		from, to, _ := strings.Cut(change, "=>")
		changed := strings.Replace(strings.Replace(sender, `,"password":"weathercock"`, "", 1), from, to, 1)
		m.refused(m.admin, "PUT", at, changed, 422, want)
	}
	kept := strings.Replace(sender, `,"password":"weathercock"`, "", 1)
	m.want(m.admin, "PUT", at, strings.Replace(kept, "Front desk", "Desk", 1), 200, &made)
	if !made.HasPassword || made.Name != "Desk" {
		t.Errorf("%+v", made)
	}
	m.want(m.admin, "PUT", at, strings.Replace(sender, `"weathercock"`, `""`, 1), 200, &made)
	if made.HasPassword {
		t.Error("an empty password did not take the old one away")
	}
	m.refused(m.admin, "PUT", "/setup/senders/none", kept, 404, "not there")
	m.refused(m.co, "PUT", at, kept, 403, "administrator")

	var cal CalendarBody
	m.want(m.co, "GET", "/setup/calendar", "", 200, &cal)
	if len(cal.Weekdays) != 5 || len(cal.Closed) != 0 {
		t.Errorf("%+v", cal)
	}
	m.want(m.co, "PUT", "/setup/calendar", `{"weekdays":["tue","wed","thu","fri","sat"],"closed":["2027-03-26"]}`, 200,
		&cal)
	if len(cal.Weekdays) != 5 || cal.Weekdays[4] != "sat" || len(cal.Closed) != 1 {
		t.Errorf("%+v", cal)
	}
	m.refused(m.co, "PUT", "/setup/calendar", `{"weekdays":[],"closed":[]}`, 422, "")
	m.refused(m.co, "PUT", "/setup/calendar", `{"weekdays":["someday"],"closed":[]}`, 422, "weekdays")
	m.refused(m.co, "PUT", "/setup/calendar", `{"weekdays":["mon"],"closed":["2027-02-30"]}`, 422, "")

	// Nobody on the list is written to, whatever the case and the name around it.
	sh := m.loans()
	m.want(m.co, "POST", "/setup/do-not-email", `{"address":"BEN@Pellgate.example","reason":"asked us by telephone"}`,
		200, nil)
	m.refused(m.co, "POST", "/setup/do-not-email", `{"address":"a@x.example, b@x.example"}`, 422, "one email address")
	r := m.rulesOf(sh.ID)[0]
	m.want(m.co, "PUT", "/sheets/"+sh.ID+"/rules/"+r.Id+"/state", `{"state":"on"}`, 200, nil)
	m.until("2027-03-15T09:30:00Z")
	page := m.log("row=2")
	if len(page.Lines) != 1 || strings.Contains(page.Lines[0].To, "ben@") ||
		!strings.Contains(page.Lines[0].To, "desk@pellgate.example") {
		t.Errorf("%+v", page.Lines)
	}
	var list []Silenced
	m.want(m.co, "GET", "/setup/do-not-email", "", 200, &list)
	if len(list) != 1 || list[0].By != "coordinator" || list[0].Reason != "asked us by telephone" {
		t.Errorf("%+v", list)
	}
	m.want(m.co, "DELETE", "/setup/do-not-email/ben%40pellgate.example", "", 204, nil)
	m.until("2027-03-20T09:30:00Z") // the Saturday is a working day now
	if page := m.log("row=2"); !strings.Contains(page.Lines[0].To, "ben@pellgate.example") {
		t.Errorf("%+v", page.Lines[0])
	}
}

// The practice clock goes forward, to a day, an instant or the next email.
func TestClockOverHTTP(t *testing.T) {
	m := newMuseum(t)
	now := func() string {
		var s Session
		m.want(m.admin, "GET", "/session", "", 200, &s)
		if !s.Clock.Practice || s.Clock.Zone != "Europe/London" {
			t.Errorf("%+v", s.Clock)
		}
		return s.Clock.Now.UTC().Format("2006-01-02 15:04")
	}
	m.refused(m.admin, "POST", "/clock", `{"to":"next"}`, 422, "No email is coming")
	m.refused(m.admin, "POST", "/clock", `{"to":"instant","at":"2027-03-14T00:00:00Z"}`, 422, "forward only")
	m.refused(m.admin, "POST", "/clock", `{"to":"instant","at":"2029-03-14T00:00:00Z"}`, 422, "400 days")
	m.refused(m.admin, "POST", "/clock", `{"to":"instant"}`, 422, "forward only")
	m.refused(m.admin, "POST", "/clock", `{"to":"yesterday"}`, 422, "/to")
	m.refused(m.co, "POST", "/clock", `{"to":"day"}`, 403, "administrator")
	m.want(m.admin, "POST", "/clock", `{"to":"day"}`, 200, nil)
	if got := now(); got != "2027-03-16 08:40" {
		t.Error(got)
	}
	sh := m.loans()
	r := m.rulesOf(sh.ID)[0]
	m.want(m.co, "PUT", "/sheets/"+sh.ID+"/rules/"+r.Id+"/state", `{"state":"on"}`, 200, nil)
	m.want(m.admin, "POST", "/clock", `{"to":"next"}`, 200, nil)
	if got := now(); got != "2027-03-19 09:00" {
		t.Error(got)
	}
	if page := m.log("state=accepted"); len(page.Lines) != 1 {
		t.Errorf("%+v", page.Lines)
	}
	// Outside the demo there is none.
	s := newSite(t, true)
	s.refused(s.as(store.Administrator), "POST", "/clock", `{"to":"day"}`, 404, "demo only")
}

// Sheets are made empty, named, changed, and taken away with what hangs on them.
func TestSheetsOverHTTP(t *testing.T) {
	m := newMuseum(t)
	columns := `[{"name":"Case","type":"text"},{"name":"Keeper","type":"email"},{"name":"Read on","type":"date","order":"day-month-year"}]`
	spec := func(more string) map[string]string {
		return map[string]string{"spec": `{"name":"Cases","zone":"Europe/London","locale":"en-GB","key":0,"address":1,"columns":` + columns + more + `}`}
	}
	status, text := m.send(m.co, "/sheets", "", nil, spec(""))
	var made MakeSheet201JSONResponse
	if status != 201 {
		t.Fatal(status, text)
	}
	if err := unmarshal(text, &made); err != nil || made.Sheet.Figures.Rows != 0 || made.Sheet.Key != "c1" ||
		made.Sheet.Address != "c2" || made.Job != nil {
		t.Fatal(err, text)
	}
	for from, want := range map[string]string{
		`"Europe/London"=>"Mars"`: "/zone", `"en-GB"=>"xx"`: "/locale", `"key":0=>"key":7`: "/key",
		`"name":"Keeper"=>"name":"case"`: "/columns",
		`"email"=>"formula"`:             "formula", `"name":"Cases"=>"name":""`: "/name",
	} {
		was, is, _ := strings.Cut(from, "=>")
		status, text := m.send(m.co, "/sheets", "", nil, map[string]string{"spec": strings.Replace(spec("")["spec"], was, is,
			1)})
		if status != 422 || !strings.Contains(text, want) {
			t.Errorf("%s: %d %s, want %s", from, status, text, want)
		}
	}
	at := "/sheets/" + made.Sheet.Id
	var sh Sheet
	m.want(m.co, "PATCH", at, `{"name":"Display cases","settleSeconds":0,"frozen":1,"nameColumn":"c1"}`, 200, &sh)
	if sh.Name != "Display cases" || sh.SettleSeconds != 0 || sh.Frozen != 1 || sh.NameColumn != "c1" {
		t.Errorf("%+v", sh)
	}
	m.refused(m.co, "PATCH", at, `{"key":"c9"}`, 422, "column")
	m.refused(m.co, "PATCH", at, `{"address":"c3"}`, 422, "address")
	m.refused(m.co, "PATCH", at, `{"settleSeconds":-1}`, 422, "/settleSeconds")
	m.want(m.co, "POST", at+"/rows", `{"cells":{"Case":"Case 01","Read on":"15/03/2027"}}`, 201, nil)
	m.refused(m.co, "POST", at+"/rows", `{"cells":{"Height":"3"}}`, 422, "Height")
	m.want(m.co, "DELETE", at, "", 204, nil)
	m.refused(m.co, "GET", at, "", 404, "not there")
	m.refused(m.co, "POST", at+"/rows", `{"cells":{"Case":"Case 02"}}`, 404, "not there")
	var list []Sheet
	m.want(m.co, "GET", "/sheets", "", 200, &list)
	if len(list) != 0 {
		t.Errorf("%+v", list)
	}
}

func unmarshal(text string, out any) error {
	if err := json.Unmarshal([]byte(text), out); err != nil {
		return fmt.Errorf("%w: %s", err, text)
	}
	return nil
}
