package demo

import (
	"context"
	"encoding/csv"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/value"
	"nivot/internal/database/dbtest"
	"nivot/internal/engine"
	"nivot/internal/store"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

// The logger's file holds what the display cases show at first, and a step
// changes a few readings and nothing else.
func TestDrive(t *testing.T) {
	dir := t.TempDir()
	at := time.Date(2027, 3, 15, 9, 30, 0, 0, time.UTC)
	d, err := OpenDrive(dir, func() time.Time { return at }, true)
	if err != nil {
		t.Fatal(err)
	}
	read := func() [][]string {
		b, err := os.ReadFile(filepath.Join(dir, driveFile))
		if err != nil {
			t.Fatal(err)
		}
		rows, err := csv.NewReader(strings.NewReader(string(b))).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		return rows
	}
	was := read()
	if len(was) != 61 || strings.Join(was[0], ",") != strings.Join(driveColumns, ",") {
		t.Fatalf("%d rows, %v", len(was), was[0])
	}
	if err := d.Step(); err != nil {
		t.Fatal(err)
	}
	changed := 0
	for i, r := range read() {
		if r[0] != was[i][0] || r[2] != was[i][2] {
			t.Errorf("%v became %v", was[i], r)
		}
		if r[3] != was[i][3] {
			changed++
			if r[3] != "15/03/2027 09:30" {
				t.Errorf("%v", r)
			}
		}
	}
	if changed == 0 || changed > 5 {
		t.Errorf("%d readings changed", changed)
	}
	now := read()
	if _, err := OpenDrive(dir, func() time.Time { return at }, false); err != nil ||
		strings.Join(read()[1], ",") != strings.Join(now[1], ",") {
		t.Errorf("opening it again begins anew: %v", err)
	}
}

// The museum as product and pictures need it: its sheets, their blemishes, and
// how its people share them.
func TestMuseum(t *testing.T) {
	ctx := context.Background()
	st, err := store.Open(dbtest.Migrated(t))
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	if err := st.Migrate(ctx); err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	if _, err := OpenDrive(folder, func() time.Time { return Start }, true); err != nil {
		t.Fatal(err)
	}
	e := engine.New(st, func() time.Time { return Start }, engine.Options{Sources: folder})
	if err := SetUp(ctx, e, func(s string) string { return s }, 8425); err != nil {
		t.Fatal(err)
	}
	if err := Share(ctx, e); err != nil {
		t.Fatal(err)
	}
	sheets, err := st.Sheets(ctx)
	if err != nil {
		t.Fatal(err)
	}
	rows := map[string]int64{}
	for _, s := range sheets {
		if rows[s.Name], err = st.CountRows(ctx, s.ID); err != nil {
			t.Fatal(err)
		}
		core, err := s.Core()
		if err != nil {
			t.Fatal(err)
		}
		if s.KeyColumn == "" || s.AddressColumn == "" || s.NameColumn == "" {
			t.Errorf("%s: key %q, address %q, name %q", s.Name, s.KeyColumn, s.AddressColumn, s.NameColumn)
		}
		recs, err := st.RowsAfter(ctx, s.ID, 0, 1000)
		if err != nil {
			t.Fatal(err)
		}
		unreadable, empty := 0, 0
		for i := range recs {
			row, err := recs[i].Core(core)
			if err != nil {
				t.Fatal(err)
			}
			for k := range core.Columns {
				if row.Cell(&core.Columns[k]).IsUnreadable() {
					unreadable++
				}
			}
			address, _ := core.Column(s.AddressColumn)
			if row.Cell(address).IsEmpty() {
				empty++
			}
			for _, box := range strings.Split(core.Show(address, row.Cell(address)), ";") {
				if boxes, err := value.ParseMailboxes(box); err == nil && len(boxes) > 0 &&
					!strings.HasSuffix(boxes[0].Domain, ".example") {
					t.Errorf("%s: %s is somebody's", s.Name, box)
				}
			}
		}
		if s.Name == "Outgoing loans" && (unreadable < 2 || empty < 1) {
			t.Errorf("%d unreadable cells, %d without an address", unreadable, empty)
		}
	}
	if rows["Outgoing loans"] != 220 || rows["Display cases"] != 60 || rows["Volunteers"] != 140 {
		t.Errorf("%v", rows)
	}
	for _, s := range sheets {
		views, err := st.Views(ctx, s.ID, "nobody", time.Now())
		if err != nil {
			t.Fatal(err)
		}
		if want := map[string]int{"Outgoing loans": 2, "Volunteers": 1}[s.Name]; len(views) != want {
			t.Errorf("%s has %d shared views", s.Name, len(views))
		}
		switch s.Name {
		case "Display cases":
			c, err := st.SheetSource(ctx, s.ID)
			if err != nil {
				t.Fatal(err)
			}
			if found, err := e.Refresh(ctx); err != nil || !found {
				t.Errorf("looking at the source: %v %v", found, err)
			}
			if c, err = st.Source(ctx, c.ID); err != nil || c.LastError != "" || c.ChangedAt != nil {
				t.Errorf("the file says what the sheet says: %+v %v", c, err)
			}
		case "Volunteers":
			if f, err := st.SheetForm(ctx, s.ID); err != nil || !f.Open {
				t.Errorf("%+v %v", f, err)
			}
		}
	}
}
