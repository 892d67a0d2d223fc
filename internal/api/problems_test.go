package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	sqldriver "github.com/go-sql-driver/mysql"
)

// A database whose disk is full is not a fault of the program, and says what to do.
func TestFullDisk(t *testing.T) {
	for _, number := range []uint16{1021, 1114} {
		full := &sqldriver.MySQLError{Number: number, Message: "The table is full"}
		status, p := toProblem(fmt.Errorf("writing rows: %w", full))
		if status != http.StatusServiceUnavailable || !strings.Contains(p.Title, "disk is full") {
			t.Errorf("error %d is %d %q, want 503 and that the disk is full", number, status, p.Title)
		}
	}
}

// A new rule is a draft, and saving one switches nothing: a body that says otherwise is refused.
func TestRuleStateIsSetByItself(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	at := "/sheets/" + sh.ID + "/rules"
	r := m.rulesOf(sh.ID)[0]
	body := func(state string) string {
		var ask map[string]any
		if err := json.Unmarshal([]byte(jsonOf(r.Body)), &ask); err != nil {
			t.Fatal(err)
		}
		ask["name"], ask["state"] = "Another name", state
		return jsonOf(map[string]any{"body": ask})
	}
	for _, k := range []struct {
		method, path, state string
		status              int
	}{
		{"POST", at, "on", 422}, {"POST", at, "paused", 422}, {"PUT", at + "/" + r.Id, "on", 422},
		{"PUT", at + "/" + r.Id, string(r.State), 200}, {"POST", at, "draft", 422},
	} {
		status, text := m.asks(m.co, k.method, k.path, body(k.state))
		says := `"field":"/body/state"`
		if k.state == "draft" {
			says = "name" // which another has by now
		}
		if status != k.status || status == 422 && !strings.Contains(text, says) {
			t.Errorf("%s with %s: %d %s", k.method, k.state, status, text)
		}
	}
}

// A copy that knows the history of its rule is made in one step.
func TestCopyRuleInOneStep(t *testing.T) {
	m := newMuseum(t)
	sh := m.loans()
	from := m.rulesOf(sh.ID)[0]
	var made Rule
	m.want(m.co, "POST", "/sheets/"+sh.ID+"/rules/"+from.Id+"/copy", `{"history":true}`, 201, &made)
	rec, err := m.st.Rule(t.Context(), made.Id)
	if err != nil || rec.HistoryOf != from.Id || rec.Version != 1 {
		t.Errorf("got %+v %v, want one version with the history of %s", rec, err, from.Id)
	}
	var events int64
	if err := m.st.DB(t.Context()).Table("events").Where("rule_id = ?", made.Id).Count(&events).Error; err != nil ||
		events != 1 {
		t.Errorf("%d events %v, want one", events, err)
	}
}
