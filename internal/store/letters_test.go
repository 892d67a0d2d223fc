package store_test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand"
	"reflect"
	"strings"
	"sync"
	"testing"

	"nivot/internal/core/template"
	"nivot/internal/database/dbtest"
	"nivot/internal/store"
)

// A letter comes back to the byte, whatever its wording wrote first, in whatever order and by
// however many processes letters are put; an old version's too, after ten changes.
func TestLettersComeBack(t *testing.T) {
	ctx, dsn := context.Background(), dbtest.DSN(t)
	another := func() *store.Store { // that remembers nothing
		st, err := store.Open(dsn)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { st.Close() })
		return st
	}
	st := another()
	if err := st.Migrate(ctx); err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewSource(7))
	words := strings.Fields(
		"the barometer is due back on Monday <b>29 March</b> &amp; we look forward to it\r\n\x00 ü 晴 🕰")
	text := func(n int) string {
		var b strings.Builder
		for range n {
			b.WriteString(words[random.Intn(len(words))] + " ")
		}
		return b.String()
	}
	page := text(400)
	letter := func(id int64, by store.Wording) store.Letter {
		l := store.Letter{DeliveryID: id, HTML: page + text(random.Intn(30)), Text: text(random.Intn(60)),
			OptOut: random.Intn(2) == 0, By: by}
		if id%7 == 0 {
			l.Subject = strings.Repeat("a subject that is longer than its delivery keeps it; ", 25)
		}
		for i := range random.Intn(3) {
			l.Carried = append(l.Carried, store.Carried{File: strings.Repeat("ab", 32), Type: "application/pdf",
				Name: fmt.Sprintf("%d \"a\".pdf", i), Inline: i == 1})
		}
		return l
	}
	want := map[int64]store.Letter{}
	var wait sync.WaitGroup
	var mu sync.Mutex
	for version := int64(1); version <= 10; version++ {
		var batches [4][]store.Letter
		for k := range batches {
			for i := range 30 {
				id := version*1000 + int64(k*100+i)
				l := letter(id, store.Wording{TemplateID: "t", Version: version, Variant: 1 + i%2})
				if i == 0 {
					l = letter(id, store.Wording{}) // of no template that is known
				}
				batches[k] = append(batches[k], l)
				want[id] = l
			}
		}
		for _, b := range batches {
			wait.Go(func() {
				if err := st.Tx(ctx, func(tx *store.Store) error { return tx.PutLetters(ctx, b) }); err != nil {
					mu.Lock()
					t.Error(err)
					mu.Unlock()
				}
			})
		}
		wait.Wait()
		page = text(300) + page // the next version says more
	}
	fresh := another()
	for id, w := range want {
		for _, s := range []*store.Store{st, fresh} {
			got, err := s.Letter(ctx, id)
			if err != nil {
				t.Fatal(err)
			}
			if !reflect.DeepEqual(*got, w) {
				t.Fatalf("letter %d:\n%+v, want\n%+v", id, *got, w)
			}
		}
	}
	if _, err := st.Letter(ctx, 5); err != store.ErrNotFound {
		t.Errorf("no letter: %v", err)
	}
	// One that was put again is the later one.
	again := letter(1001, store.Wording{TemplateID: "t", Version: 3, Variant: 1})
	if err := st.PutLetters(ctx, []store.Letter{again}); err != nil {
		t.Fatal(err)
	}
	if got, err := st.Letter(ctx, 1001); err != nil || !reflect.DeepEqual(*got, again) {
		t.Errorf("%+v %v", got, err)
	}
	// A transaction that is taken back leaves no letter that cannot be read.
	later := store.Wording{TemplateID: "later", Version: 1, Variant: 1}
	failed := fmt.Errorf("taken back")
	if err := st.Tx(ctx, func(tx *store.Store) error {
		if err := tx.PutLetters(ctx, []store.Letter{letter(20_000, later)}); err != nil {
			return err
		}
		return failed
	}); err != failed {
		t.Fatal(err)
	}
	l := letter(20_001, later)
	if err := st.PutLetters(ctx, []store.Letter{l}); err != nil {
		t.Fatal(err)
	}
	if got, err := another().Letter(ctx, 20_001); err != nil || !reflect.DeepEqual(*got, l) {
		t.Errorf("%+v %v", got, err)
	}
}

// A database with templates and letters from before they had versions and packs keeps every word
// of them, on the way up, down and up again.
func TestMigrateLetters(t *testing.T) {
	ctx := context.Background()
	st, err := store.Open(dbtest.DSN(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	if err := st.MigrateUpTo(ctx, 12); err != nil {
		t.Fatal(err)
	}
	const page, text = `<p>Dear “Ada” \\ &amp; <b>Ü 🕰</b></p>` + "\n\t", "Dear \"Ada\"\n\\ Ü 🕰\n"
	for _, q := range []struct {
		sql  string
		args []any
	}{
		{"INSERT INTO templates (id, sheet_id, name, subject, body, language, variants, version, created_at) VALUES ('t', " +
			"'s', 'Re \"turn\"', ?, ?, 'c1', NULL, 3, UTC_TIMESTAMP())",
			[]any{`{"type":"doc","content":[{"type":"paragraph","content":[{"type":"text","text":"About \"it\""}]}]}`,
				`{"type":"doc","content":[{"type":"paragraph","content":[{"type":"text","text":"Ü"}]}]}`}},
		{"INSERT INTO letters (delivery_id, html, text) VALUES (7, ?, ?)", []any{page, text}},
	} {
		if err := st.DB(ctx).Exec(q.sql, q.args...).Error; err != nil {
			t.Fatal(err)
		}
	}
	// With versions, and letters that carry something and offer to opt out, before packs.
	carried := []store.Carried{{File: strings.Repeat("ab", 32), Type: "application/pdf", Name: "“a”.pdf"}}
	if err := st.MigrateUpTo(ctx, 13); err != nil {
		t.Fatal(err)
	}
	if err := st.DB(ctx).Exec(
		"INSERT INTO letters (delivery_id, html, text, carried, opt_out) VALUES (8, 'h', 't', ?, TRUE)",
		store.Detail(carried)).Error; err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if err := st.Migrate(ctx); err != nil {
			t.Fatal(err)
		}
		l, err := st.Letter(ctx, 7)
		if err != nil || l.HTML != page || l.Text != text || len(l.Carried) > 0 {
			t.Errorf("%+v %v, want\n%q\n%q", l, err, page, text)
		}
		if l, err := st.Letter(ctx, 8); err != nil || l.HTML != "h" || !l.OptOut || !reflect.DeepEqual(l.Carried, carried) {
			t.Errorf("what it carries: %+v %v", l, err)
		}
		rec, err := st.Template(ctx, "t")
		if err != nil {
			t.Fatal(err)
		}
		c, err := rec.Core()
		if err != nil || c.Name != `Re "turn"` || c.Language != "c1" || c.Version != 3 ||
			c.Subject.Content[0].Content[0].Text != `About "it"` || c.Body.Content[0].Content[0].Text != "Ü" {
			t.Errorf("%+v %v", c, err)
		}
		if err := st.MigrateDownTo(ctx, 13); err != nil {
			t.Fatal(err)
		}
	}
	if err := st.MigrateDownTo(ctx, 12); err != nil {
		t.Fatal(err)
	}
	if err := st.Migrate(ctx); err != nil {
		t.Fatal(err)
	}
	if l, err := st.Letter(ctx, 7); err != nil || l.HTML != page || l.Text != text {
		t.Errorf("all the way back and up again: %+v %v", l, err)
	}
}

// In a database that has gone back in time no dictionary and no identity has an id that another
// one may have had: processes remember them by these.
func TestLettersAfterGoingBack(t *testing.T) {
	st, ctx := open(t), context.Background()
	if _, err := st.JumpAhead(ctx, 5); err != nil {
		t.Fatal(err)
	}
	if err := st.PutLetters(ctx,
		[]store.Letter{{DeliveryID: 1, HTML: "a", Text: "a", By: store.Wording{TemplateID: "t", Version: 1,
			Variant: 1}}}); err != nil {
		t.Fatal(err)
	}
	identity, err := st.IdentityOf(ctx, store.Identity{Name: "Loans desk", Address: "loans@marrowby.example"})
	if err != nil {
		t.Fatal(err)
	}
	var base int64
	if err := st.DB(ctx).Raw("SELECT MAX(id) FROM letter_bases").Scan(&base).Error; err != nil || base < 1_000_000_000 ||
		identity < 1_000_000_000 {
		t.Errorf("base %d, identity %d, %v", base, identity, err)
	}
	if again, err := st.IdentityOf(ctx, store.Identity{Name: "Loans desk",
		Address: "loans@marrowby.example"}); err != nil || again != identity {
		t.Errorf("the same identity: %d, %v", again, err)
	}
	if other, err := st.IdentityOf(ctx, store.Identity{Name: "Desk", Address: "loans@marrowby.example"}); err != nil ||
		other == identity {
		t.Errorf("another identity: %d, %v", other, err)
	}
}

// Letters that are older than packs, and what cannot be read.
func TestLetterForms(t *testing.T) {
	st, ctx := open(t), context.Background()
	put := func(id int, pack []byte) {
		t.Helper()
		if err := st.DB(ctx).Exec("REPLACE INTO letters (delivery_id, base_id, pack) VALUES (?, 0, ?)", id,
			pack).Error; err != nil {
			t.Fatal(err)
		}
	}
	put(1, []byte("\x00{\"html\":\"<p>Ü</p>\",\"text\":\"Ü\"}"))
	if l, err := st.Letter(ctx, 1); err != nil || l.HTML != "<p>Ü</p>" || l.Text != "Ü" || l.Carried != nil {
		t.Errorf("%+v %v", l, err)
	}
	for name, pack := range map[string][]byte{"nothing": {}, "another form": {9, 1}, "no frame": {1, 2, 3},
		"cut off": bytes.Repeat([]byte{1}, 40)} {
		put(2, pack)
		if l, err := st.Letter(ctx, 2); err == nil {
			t.Errorf("%s: %+v", name, l)
		}
	}
}

// A subject is cut where it is longer than a delivery keeps it, and nowhere else: characters
// count, not bytes.
func TestSubjectsKept(t *testing.T) {
	for _, x := range []struct {
		name, subject string
		whole         bool
	}{
		{"short", "Oak bellows", true},
		{"of many bytes", strings.Repeat("晴", 500), true},
		{"as long as may be", strings.Repeat("é", 1000), true},
		{"longer", strings.Repeat("é", 1001), false},
	} {
		t.Run(x.name, func(t *testing.T) {
			if l := store.NewLetter(&template.Rendered{Subject: x.subject}); (l.Subject == "") != x.whole || !x.whole &&
				l.Subject != x.subject {
				t.Errorf("kept beside the delivery: %.40q", l.Subject)
			}
		})
	}
}
