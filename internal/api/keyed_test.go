package api

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"nivot/internal/store"
)

// Only what writes rows takes an idempotency key, and what is kept of an answer is never a
// secret; another method, path or query is another request.
func TestIdempotencyKeys(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	var keyed []string
	for id, is := range s.h.s.keyed {
		if is {
			keyed = append(keyed, id)
		}
	}
	slices.Sort(keyed)
	if want := []string{"addRow", "changeByKey", "changeRows", "deleteByKey", "deleteRow", "editRow",
		"putByKey"}; !slices.Equal(keyed, want) {
		t.Errorf("operations with a key: %v, want %v", keyed, want)
	}
	admin := s.as(store.Administrator)
	secret, _ := s.token(admin, `{"name":"Desk","role":"coordinator"}`)
	kept := func() (n int64) {
		if err := s.st.DB(context.Background()).Raw("SELECT COUNT(*) FROM answers").Scan(&n).Error; err != nil {
			t.Fatal(err)
		}
		return n
	}
	rows := "/api/sheets/" + sh.ID + "/rows"
	for range 2 {
		if status, text, _ := s.ask("GET", rows, secret, "", "Idempotency-Key", "one"); status != 200 {
			t.Fatal(status, text)
		}
	}
	if n := kept(); n != 0 {
		t.Errorf("%d answers of reading were kept", n)
	}
	if status, text, _ := s.ask("POST", rows, secret, `{"cells":{"Loan":"LN-900"}}`, "Idempotency-Key",
		"two"); status != 201 && status != 200 {
		t.Fatal(status, text)
	}
	for _, x := range []struct{ method, path, data string }{
		{"POST", rows, `{"cells":{"Loan":"LN-901"}}`},
		{"PUT", rows + "/by-key/LN-900", `{"cells":{"Loan":"LN-900"}}`},
		{"POST", rows + "?x=1", `{"cells":{"Loan":"LN-900"}}`},
	} {
		if status, text, _ := s.ask(x.method, x.path, secret, x.data, "Idempotency-Key", "two"); status < 400 {
			t.Errorf("%s %s with the key of another request: %d %s", x.method, x.path, status, text)
		}
	}
	var bodies []string
	if err := s.st.DB(context.Background()).Raw("SELECT COALESCE(body, '') FROM answers").Scan(
		&bodies).Error; err != nil {
		t.Fatal(err)
	}
	for _, b := range bodies {
		if strings.Contains(b, tokenStart) {
			t.Error("a token was kept in an answer")
		}
	}
}

// What a program changes by key is done where its transaction has to be made once more: its steps are as they were
// asked for, and the answer that is kept says that it was done.
func TestByKeyMadeOnceMore(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	secret, _ := s.token(s.as(store.Administrator), `{"name":"Desk","role":"coordinator"}`)
	store.RepeatTx(true)
	defer store.RepeatTx(false)
	rows := "/api/sheets/" + sh.ID + "/rows"
	for i, x := range []struct {
		method, path, data string
		status             int
	}{
		{"PUT", "/by-key/LN-900", `{"cells":{"Object":"Tin weathercock"}}`, 200},
		{"PATCH", "/by-key/LN-900", `{"cells":{"Object":"Oak bellows"}}`, 200},
		{"PUT", "/by-key/LN-900", `{"cells":{"Object":"Net float"}}`, 200},
		{"DELETE", "/by-key/LN-900", "", 204},
	} {
		for _, what := range []string{"asked", "asked again with its key"} {
			status, text, _ := s.ask(x.method, rows+x.path, secret, x.data, "Idempotency-Key", fmt.Sprint("once-more-", i))
			if status != x.status {
				t.Errorf("%s %s, %s: %d %s, want %d", x.method, x.path, what, status, text, x.status)
			}
		}
	}
	if status, _, _ := s.ask("GET", rows+"/by-key/LN-900", secret, ""); status != 404 {
		t.Errorf("deleted: %d", status)
	}
}
