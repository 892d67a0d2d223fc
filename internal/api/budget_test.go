package api

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"nivot/internal/store"
)

// What a person asks for waits for what they have asked before, and nobody else does; what takes too long says so.
func TestComputingIsBounded(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	reader := s.as(store.Reader)
	path := "/sheets/" + sh.ID + "/rows/query"
	query := `{"filter":{"column":"c1","op":"contains","value":"LN"},"offset":0,"limit":10}`
	s.want(reader, "POST", path, query, 200, nil)

	people, err := s.st.People(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	var me string
	for _, p := range people {
		if p.Role == store.Reader {
			me = p.ID
		}
	}
	var leave []func()
	for range computesAtOnce {
		l, err := s.h.s.computing.enter(context.Background(), me, computesAtOnce, computesWait)
		if err != nil {
			t.Fatal(err)
		}
		leave = append(leave, l)
	}
	s.want(s.as(store.Editor), "POST", path, query, 200, nil)
	done := make(chan int)
	go func() {
		res := s.call(reader, "POST", "/api"+path, query)
		_ = body(res)
		done <- res.StatusCode
	}()
	until(t, "it waits", func() bool {
		s.h.s.computing.mu.Lock()
		defer s.h.s.computing.mu.Unlock()
		return s.h.s.computing.of[me].count == computesAtOnce+1
	})
	for _, l := range leave {
		l()
	}
	if status := <-done; status != 200 {
		t.Errorf("once it is its turn: %d", status)
	}

	s.h.s.computesFor = time.Nanosecond
	for method, path := range map[string]string{"POST": path, "GET": "/search?q=LN"} {
		data := ""
		if method == "POST" {
			data = strings.Replace(query, "LN", "LM", 1)
		}
		if res, text := s.asks(reader, method, path, data); res != 422 || !strings.Contains(text, "too much") {
			t.Errorf("%s: %d %s", path, res, text)
		}
	}
	for _, op := range s.h.s.operations() { // whoever may compute is a person
		if computes, _ := op.Extensions["x-computes"].(bool); computes && op.Extensions["x-role"] == "nobody" {
			t.Errorf("%s computes for nobody", op.OperationID)
		}
	}
}

func (s *site) asks(c *http.Client, method, path, data string) (int, string) {
	s.t.Helper()
	res := s.call(c, method, "/api"+path, data)
	return res.StatusCode, body(res)
}

// Rules and conditions of any size are refused with their place.
func TestSizesAreBounded(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	c := s.as(store.Coordinator)
	leaf := func(n int) string {
		return `{"column":"c1","op":"one-of","value":[` + strings.TrimSuffix(strings.Repeat(`"x",`, n), ",") + `]}`
	}
	many := func(n int, of string) string { return strings.TrimSuffix(strings.Repeat(of+",", n), ",") }
	for _, k := range []struct{ name, path, data, field, says string }{
		{"a filter's parts", "/rows/query", fmt.Sprintf(`{"offset":0,"limit":1,"filter":{"any":[{"all":[%s]},{"all":[%s]}]}}`,
			many(300, leaf(1)), many(300, leaf(1))), "/filter/any/1/all/", "parts"},
		{"a filter's values", "/rows/query", fmt.Sprintf(`{"offset":0,"limit":1,"filter":{"all":[%s]}}`, many(5, leaf(500))),
			"/filter/all/", "2000 values"},
	} {
		t.Run(k.name, func(t *testing.T) {
			status, text := s.asks(c, "POST", "/sheets/"+sh.ID+k.path, k.data)
			if status != 422 || !strings.Contains(text, k.says) || !strings.Contains(text, `"field":"`+k.field) {
				t.Errorf("got %d %.300s", status, text)
			}
		})
	}
}
