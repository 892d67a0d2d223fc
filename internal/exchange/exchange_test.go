package exchange

import (
	"encoding/json"
	"os"
	"path"
	"reflect"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"nivot/internal/core/value"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

func TestReadCSVEncodings(t *testing.T) {
	text := "Loan;Object\r\nLN-1;\"Oak; \"\"fine\"\"\nbellows\"\r\n;  ;\r\nLN-2;Müsli\r\nLN-3"
	utf16le, _ := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(text)
	utf16be, _ := unicode.UTF16(unicode.BigEndian, unicode.UseBOM).NewEncoder().String(text)
	noBOM, _ := unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewEncoder().String(text)
	latin, _ := charmap.Windows1252.NewEncoder().String(text)
	for enc, data := range map[string][]string{"UTF-8": {text, "\ufeff" + text}, "UTF-16": {utf16le, utf16be, noBOM},
		"Windows-1252": {latin}} {
		for _, d := range data {
			got, err := ReadCSV([]byte(d), Choice{})
			if err != nil {
				t.Fatalf("%s: %v", enc, err)
			}
			want := [][]string{{"LN-1", "Oak; \"fine\"\nbellows"}, {"LN-2", "Müsli"}, {"LN-3", ""}}
			if got.Encoding != enc || !reflect.DeepEqual(got.Rows, want) || !reflect.DeepEqual(got.Lines, []int{2, 5, 6}) {
				t.Errorf("%s: %+v", enc, got)
			}
		}
	}
}

func TestReadCSVFaults(t *testing.T) {
	for in, want := range map[string]string{
		"":                  "the file is empty",
		"a,b\n1,2,3\n":      "line 2, column 5: the line has 3 cells",
		"a,b\n1,\"x\"y\n":   "line 2",
		"a,b\n1,\"x\n":      "line 2, column 3: the quote that opens here is not closed",
		"a\x00\x01b,c\n1,2": "not a text file",
	} {
		if _, err := ReadCSV([]byte(in), Choice{}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", in, err, want)
		}
	}
	for in, sep := range map[string]rune{"a\tb\n1\t2": '\t', "a;b,c\n1;2": ',', "\"a,b\";c\n1;2": ';', "a\nb": ','} {
		if got, err := ReadCSV([]byte(in), Choice{}); err != nil || got.Separator != sep && in != "a;b,c\n1;2" {
			t.Errorf("%q: %v %v", in, got, err)
		}
	}
	if got, err := ReadCSV([]byte("a,b\n1,2,,\n"), Choice{}); err != nil || len(got.Rows) != 1 {
		t.Errorf("empty cells beyond the heading: %v", err)
	}
}

func FuzzReadCSV(f *testing.F) {
	for _, s := range []string{"a,b\n1,2\n", "a;b\n\"x\";2", "\xff\xfea\x00,\x00", "a\tb\r\n\t\r\n1\t2"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		tab, err := ReadCSV(b, Choice{})
		if err != nil {
			return
		}
		for _, r := range tab.Rows {
			if len(r) != len(tab.Heading) {
				t.Fatalf("a row of %d cells under %d columns", len(r), len(tab.Heading))
			}
		}
		if len(tab.Lines) != len(tab.Rows) {
			t.Fatal("lines and rows differ")
		}
	})
}

// The bundles in testdata rehearse to exactly their expected.jsonl, whether in
// memory or put in order on disk.
func TestRehearseBundles(t *testing.T) {
	for name, to := range map[string]string{"loans": "2027-06-15", "cases": "2027-04-05"} {
		t.Run(name, func(t *testing.T) { rehearses(t, "testdata/"+name, to) })
	}
}

func rehearses(t *testing.T, dir, until string) {
	b, err := OpenBundle(dir)
	if err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(dir + "/edits.jsonl")
	if err != nil {
		t.Fatal(err)
	}
	edits, err := b.ReadEdits(data)
	if err != nil {
		t.Fatal(err)
	}
	from, _ := ParseInstant("2027-03-15T08:40", b.Sheet.Zone)
	to, _ := ParseInstant(until, b.Sheet.Zone)
	var got strings.Builder
	enc := json.NewEncoder(&got)
	enc.SetEscapeHTML(false)
	if err := b.Rehearse(false, edits, from, to, func(l *RehearsalLine) error { return enc.Encode(l) }); err != nil {
		t.Fatal(err)
	}
	want, err := os.ReadFile(dir + "/expected.jsonl")
	if err != nil {
		t.Fatal(err)
	}
	if got.String() != string(want) {
		t.Errorf("got:\n%s\nwant:\n%s", got.String(), want)
	}
	defer func(n int) { spillAt = n }(spillAt)
	spillAt = 3
	var again strings.Builder
	enc = json.NewEncoder(&again)
	enc.SetEscapeHTML(false)
	if err := b.Rehearse(false, edits, from, to, func(l *RehearsalLine) error { return enc.Encode(l) }); err != nil {
		t.Fatal(err)
	}
	if again.String() != got.String() {
		t.Errorf("put in order on disk:\n%s", again.String())
	}
}

// Any bytes make an error or a bundle, and never a panic.
func FuzzBundle(f *testing.F) {
	good := map[string][]byte{}
	for _, name := range []string{"sheet.json", "rows.csv", "templates.json", "rules.json", "calendar.json"} {
		data, err := os.ReadFile("testdata/cases/" + name)
		if err != nil {
			f.Fatal(err)
		}
		good[name] = data
		f.Add(name, data)
	}
	from, to := time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC), time.Date(2027, 3, 25, 9, 0, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, name string, data []byte) {
		dir := fstest.MapFS{}
		for n, d := range good {
			dir[n] = &fstest.MapFile{Data: d}
		}
		dir[path.Base("/"+name)] = &fstest.MapFile{Data: data}
		b, err := ReadBundle(dir)
		if err != nil {
			return
		}
		_ = b.Rehearse(true, nil, from, to, func(*RehearsalLine) error { return nil })
	})
}

// Faults in a bundle say which file, where, and what is wrong.
func TestBundleFaults(t *testing.T) {
	good := map[string]string{}
	for _, f := range []string{"sheet.json", "rows.csv", "rules.json", "templates.json", "calendar.json"} {
		b, err := os.ReadFile("testdata/loans/" + f)
		if err != nil {
			t.Fatal(err)
		}
		good[f] = string(b)
	}
	for _, c := range []struct{ file, old, new, want string }{
		{"sheet.json", `"zone": "Europe/London"`, `"zone": "Mars"`, `sheet.json, /zone: zone "Mars" is not known`},
		{"sheet.json", `"key"`, `"keys"`, `sheet.json, line`},
		{"sheet.json", `"locale": "en-GB"`, `"locale": "xx"`, "is not known"},
		{"sheet.json", `"key": "Loan"`, `"key": "Loans"`, `/key: there is no column "Loans"`},
		{"rows.csv", "Loan,Object", "Loan,Thing", `rows.csv, line 1: there is no column "Thing"`},
		{"rows.csv", "LN-0504,", "LN-0504,a,b,c,", "rows.csv, line 5"},
		{"templates.json", "[Object] is due", "[Objekt] is due",
			`templates.json, /0/subject: line 1, column 2: there is no column "Objekt"`},
		{"templates.json", ": weekday]", ": wekday]", `/0/subject: line 1, column 38: "wekday" is not a word`},
		{"templates.json", "[Contact: first word, else", "[Contact: 1st word, else", "/0/text: line 1, column 16"},
		{"rules.json", `"kind": "date"`, `"kind": "whim"`, `rules.json, /0/trigger/kind: trigger "whim" is not known`},
		{"rules.json", `"out", "extended"`, `"oot"`, `/0/condition/value/0: "oot" is none of the column's options`},
		{"rules.json", `"send": [{"template": "Return"}]`, `"send": []`, "/0/send: say which template"},
		{"rules.json", `"cc"`, `"ccc"`, `rules.json, /0/ccc: there is no such name here; there are bcc, brake, cc`},
		{"rules.json", `"at": "09:00"`, `"at": "9am"`, "/0/trigger/at"},
		{"calendar.json", `"mon"`, `"moon"`, `calendar.json: weekday "moon" is not known`},
	} {
		dir := fstest.MapFS{}
		for f, text := range good {
			if f == c.file {
				if !strings.Contains(text, c.old) {
					t.Fatalf("%s does not hold %q", f, c.old)
				}
				text = strings.Replace(text, c.old, c.new, 1)
			}
			dir[f] = &fstest.MapFile{Data: []byte(text)}
		}
		if _, err := ReadBundle(dir); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v\nwant %s", c.new, err, c.want)
		}
	}
	delete(good, "rules.json")
	dir := fstest.MapFS{}
	for f, text := range good {
		dir[f] = &fstest.MapFile{Data: []byte(text)}
	}
	if _, err := ReadBundle(dir); err == nil || err.Error() != "rules.json: the file is missing" {
		t.Error(err)
	}
}

func TestEditFaults(t *testing.T) {
	b, err := OpenBundle("testdata/loans")
	if err != nil {
		t.Fatal(err)
	}
	for in, want := range map[string]string{
		`{"at":"2027-03-15T10:00","row":"LN-9","set":{"State":"out"}}`:    `row "LN-9" is not there`,
		`{"at":"2027-03-15T10:00","row":"LN-0501","set":{"Stat":"out"}}`:  `no column "Stat"`,
		`{"at":"later","row":"LN-0501","set":{"State":"out"}}`:            "is not a time",
		`{"at":"2027-03-15T10:00","row":"LN-0501"}`:                       "one of: row and set, add, delete",
		`{"at":"2027-03-15T10:00","row":"LN-0501","set":{},"delete":"x"}`: "one of: row and set, add, delete",
	} {
		if _, err := b.ReadEdits([]byte("\n" + in)); err == nil || !strings.Contains(err.Error(), want) ||
			!strings.Contains(err.Error(), "line 2") {
			t.Errorf("%s: %v, want %q", in, err, want)
		}
	}
}

// Lines that hold nothing are counted between the rows, whether they are empty, white or
// separators alone; those at the end, and before the heading, are none.
func TestBlankLines(t *testing.T) {
	l, _ := value.FindLocale("en-GB")
	for text, want := range map[string]int{
		"A;B\n1;2\n3;4\n": 0, "A;B\n\n1;2\n;\n3;4\n\n \n": 2, "\n\nA;B\n1;2": 0, "A;B\r\n\r\n\r\n1;2\r\n": 2,
		"A;B\n\"1\n\n2\";3\n4;5\n": 0, "A;B\n\"1\n2\";3\n\n4;5\n;;\n6;7": 2, "A;B\n": 0,
	} {
		table, err := ReadTable([]byte(text), Choice{}, l)
		if err != nil || table.Blank != want {
			t.Errorf("%q: %d blank lines, want %d (%v)", text, table.Blank, want, err)
		}
	}
}
