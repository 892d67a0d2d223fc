package engine

import (
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"nivot/internal/store"
)

// A sheet follows a file: what it changed, what it refuses, and that a failed
// look changes nothing.
func TestSource(t *testing.T) {
	d := newDesk(t, []string{"LN-1", "Oak bellows"}, []string{"LN-2", "Net float"}, []string{"LN-3", "Ledger"},
		[]string{"LN-4", "Coracle"}, []string{"LN-5", "Quilt"},
		[]string{"LN-6", "Sampler"}, []string{"LN-7", "Inkwell"}, []string{"LN-8", "Barometer"}, []string{"LN-9", "Lace"})
	d.opts.Sources = t.TempDir()
	path := filepath.Join(d.opts.Sources, "loans.csv")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	lines := []string{"Loan,Object,Their own", "LN-1,Oak bellows,x", "LN-2,Net float,x", "LN-3,Ledger,x",
		"LN-4,Coracle,x", "LN-5,Quilt,x", "LN-6,Sampler,x", "LN-7,Inkwell,x", "LN-8,Barometer,x", "LN-9,Lace,x"}
	write(strings.Join(lines, "\n"))
	look := func(overrule bool) *store.Source {
		t.Helper()
		if err := d.RefreshNow(d.ctx, d.rec.ID, overrule); err != nil {
			t.Fatal(err)
		}
		for range 400 {
			if idle, err := d.Idle(d.ctx); err == nil && idle {
				break
			}
			time.Sleep(5 * time.Millisecond)
		}
		c, err := d.Store.SheetSource(d.ctx, d.rec.ID)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	for want, c := range map[string]store.Source{
		"path of a file":   {Place: "../x.csv", EveryMinutes: 5},
		"every 1 to":       {Place: "loans.csv"},
		"written as 07:30": {Place: "loans.csv", AtTime: "7 o'clock"},
		"inside the own":   {Place: "http://127.0.0.1/x.csv", EveryMinutes: 5},
	} {
		c.SheetID = d.rec.ID
		if err := d.SaveSource(d.ctx, &c, "Ines"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	src := &store.Source{SheetID: d.rec.ID, Place: "loans.csv", EveryMinutes: 30, Share: 33, Missing: "gone"}
	if err := d.SaveSource(d.ctx, src, "Ines"); err != nil {
		t.Fatal(err)
	}
	start := d.table()
	if c := look(false); c.LastError != "" || c.LookedAt == nil || d.table() != start {
		t.Errorf("a file that says the same: %+v\n%s", c, d.table())
	}
	lines[2] = "LN-2,Glass net float,y"
	write(strings.Join(lines[:9], "\n"))
	if c := look(false); c.LastError != "" || !strings.Contains(d.table(), "Glass net float") ||
		!strings.Contains(d.table(), "LN-9|Lace||||gone") {
		t.Errorf("%+v\n%s", c, d.table())
	}
	after := d.table()
	for name, text := range map[string]string{
		"than 4 cells":  "Loan,Object\nLN-1,a,b,c,d\n",
		"no column for": "Object\nx\n",
		"would change":  "Loan,Object\nLN-1,a\nLN-2,b\nLN-3,c\nLN-4,d\nLN-5,e\nLN-6,f\n",
		"is empty":      "",
	} {
		write(text)
		c := look(false)
		if c.LastError == "" || d.table() != after {
			t.Errorf("%s: %q\n%s", name, c.LastError, d.table())
		}
		if c.OverShare != (name == "would change") {
			t.Errorf("%s: over its share: %v", name, c.OverShare)
		}
		if name == "would change" && !strings.Contains(c.LastError, "would change 8 rows of 9, more than the 33 %") {
			t.Errorf("%s", c.LastError)
		}
	}
	os.Remove(path)
	if c := look(false); !strings.Contains(c.LastError, "no file") {
		t.Errorf("%+v", c)
	}
	write("Loan,Object\nLN-1,a\nLN-2,b\nLN-3,c\nLN-4,d\nLN-5,e\nLN-6,f\n")
	c := look(true)
	if c.LastError != "" || c.Overrule || !strings.Contains(d.table(), "LN-6|f") {
		t.Errorf("%+v\n%s", c, d.table())
	}
	// Looked at again by itself, at its time, in one piece with what it changes.
	at, err := d.Store.RefreshAt(d.ctx, c.ID)
	if err != nil || at == nil || !at.Equal(d.Now().Add(30*time.Minute)) {
		t.Errorf("next look %v %v", at, err)
	}
	events, err := d.Store.SourceEvents(d.ctx, d.rec.ID, 50)
	kinds := map[string]int{}
	for _, ev := range events {
		kinds[ev.Kind]++
	}
	if err != nil || kinds[store.EventRefreshed] != 2 || kinds[store.EventRefreshFailed] != 5 ||
		kinds[store.EventLooked] < 1 {
		t.Errorf("%v %v", kinds, err)
	}
	if err := d.DropSource(d.ctx, d.rec.ID, "Ines"); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Store.SheetSource(d.ctx, d.rec.ID); !errors.Is(err, store.ErrNotFound) {
		t.Error(err)
	}
}

func TestNextLook(t *testing.T) {
	zone, _ := time.LoadLocation("Europe/London")
	for _, c := range []struct {
		source    store.Source
		now, want string
	}{
		{store.Source{EveryMinutes: 90}, "2027-03-15T08:40:00Z", "2027-03-15T10:10:00Z"},
		{store.Source{AtTime: "07:30"}, "2027-03-15T08:40:00Z", "2027-03-16T07:30:00Z"},
		{store.Source{AtTime: "09:00"}, "2027-03-15T08:40:00Z", "2027-03-15T09:00:00Z"},
		{store.Source{AtTime: "07:30"}, "2027-03-27T08:40:00Z", "2027-03-28T06:30:00Z"}, // summer time has begun
		{store.Source{AtTime: "01:30"}, "2027-03-27T08:40:00Z", "2027-03-28T01:30:00Z"}, // a time that the change skips
	} {
		if got := nextLook(&c.source, zone, at(c.now)).UTC().Format(time.RFC3339); got != c.want {
			t.Errorf("%s after %s: %s, want %s", fmt.Sprint(c.source.EveryMinutes, c.source.AtTime), c.now, got, c.want)
		}
	}
}

// An address may hold a secret in its query: it is kept sealed, and shown to nobody.
func TestSourceSecrets(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, _ := f.loan()
	key, err := NewKey(make([]byte, 32))
	if err != nil {
		t.Fatal(err)
	}
	f.opts.Key = key
	const secret = "s3cret-of-the-museum"
	var asked atomic.Value
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Store(r.URL.RawQuery)
		w.Header().Set("Content-Length", "100") // and then less
		fmt.Fprint(w, "Loan\n")
	}))
	t.Cleanup(srv.Close)
	if err := f.Store.SetSetting(f.ctx, SettingFetch, true); err != nil {
		t.Fatal(err)
	}
	src := &store.Source{SheetID: rec.ID, Place: srv.URL + "/loans.csv?token=" + secret + "&raw", EveryMinutes: 5, Share: 33,
		Missing: "gone"}
	if err := f.SaveSource(f.ctx, src, "Ines"); err != nil {
		t.Fatal(err)
	}
	look := func() *store.Source {
		t.Helper()
		for end := time.Now().Add(time.Minute); ; time.Sleep(5 * time.Millisecond) {
			c, err := f.Store.SheetSource(f.ctx, rec.ID)
			if err != nil || time.Now().After(end) {
				t.Fatal("not looked at: ", err)
			}
			if c.LastError != "" {
				return c
			}
			if _, err := f.Refresh(f.ctx); err != nil {
				t.Fatal(err)
			}
		}
	}
	c := look()
	if asked.Load() != "token="+secret+"&raw" || c.Place != srv.URL+"/loans.csv?token=••••&••••" {
		t.Errorf("asked for %q, shown as %q", asked.Load(), c.Place)
	}
	host := strings.TrimPrefix(srv.URL, "http://")
	if c.LastError == "" || strings.Contains(strings.ReplaceAll(c.LastError, host, ""), "127.0.0.1") {
		t.Errorf("the error tells of the network: %q", c.LastError)
	}
	// Saved as the page shows it, it stays; with another host its secret does not go there.
	again := store.Source{SheetID: rec.ID, Place: c.Place, EveryMinutes: 10, Share: 33, Missing: "gone"}
	if err := f.SaveSource(f.ctx, &again, "Ines"); err != nil {
		t.Fatal(err)
	}
	if look(); asked.Load() != "token="+secret+"&raw" {
		t.Errorf("asked for %q", asked.Load())
	}
	other := store.Source{SheetID: rec.ID, Place: "http://elsewhere.example/loans.csv?token=••••", EveryMinutes: 10, Share: 33}
	if err := f.SaveSource(f.ctx, &other, "Ines"); err == nil || !strings.Contains(err.Error(), "write the address again") {
		t.Errorf("another address with dots: %v", err)
	}
	for _, table := range []string{"sources", "events", "audit", "agenda"} {
		var rows []map[string]any
		if err := f.Store.DB(f.ctx).Table(table).Find(&rows).Error; err != nil {
			t.Fatal(err)
		}
		if strings.Contains(fmt.Sprintf("%s", rows), secret) {
			t.Errorf("the secret stands in %s", table)
		}
	}
	f.opts.Key = nil
	if err := f.SaveSource(f.ctx, &store.Source{SheetID: rec.ID, Place: srv.URL + "/x?a=1", EveryMinutes: 5}, "Ines"); err == nil ||
		!strings.Contains(err.Error(), "NIVOT_KEY_FILE") {
		t.Errorf("without a key: %v", err)
	}
}
