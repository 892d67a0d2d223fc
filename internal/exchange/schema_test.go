package exchange_test

import (
	"bytes"
	"encoding/json"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"nivot/internal/exchange"
	"nivot/internal/exchange/exchangetest"
)

func schema(t *testing.T, name string) *jsonschema.Schema {
	t.Helper()
	s, err := jsonschema.NewCompiler().Compile("../../docs/schemas/" + name + ".schema.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func fits(t *testing.T, s *jsonschema.Schema, data []byte) error {
	t.Helper()
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	return s.Validate(v)
}

// The bundles that ship, and those of the tests, fit the JSON Schemas.
func TestBundlesFitTheSchemas(t *testing.T) {
	dirs, err := filepath.Glob("testdata/*")
	if err != nil {
		t.Fatal(err)
	}
	demo, err := filepath.Glob("../demo/bundles/*")
	if err != nil {
		t.Fatal(err)
	}
	for _, dir := range append(dirs, demo...) {
		for _, name := range []string{"sheet", "rules", "templates", "calendar", "pieces"} {
			data, err := os.ReadFile(filepath.Join(dir, name+".json"))
			if os.IsNotExist(err) && (name == "calendar" || name == "pieces") {
				continue
			}
			if err != nil {
				t.Fatal(err)
			}
			if err := fits(t, schema(t, name), data); err != nil {
				t.Errorf("%s/%s.json: %v", dir, name, err)
			}
		}
		data, err := os.ReadFile(filepath.Join(dir, "edits.jsonl"))
		if os.IsNotExist(err) {
			continue
		}
		for _, line := range strings.Split(strings.TrimSpace(string(data)), "\n") {
			if err := fits(t, schema(t, "edit"), []byte(line)); err != nil {
				t.Errorf("%s: %s: %v", dir, line, err)
			}
		}
	}
}

// What the reader takes the schema lets through, whatever the rules are.
func TestRandomRulesFitTheSchema(t *testing.T) {
	s := schema(t, "rules")
	for seed := range uint64(200) {
		dir := exchangetest.New(seed, 31).Bundle()
		if _, err := exchange.ReadBundle(dir); err != nil {
			continue
		}
		if err := fits(t, s, dir["rules.json"].Data); err != nil {
			t.Errorf("seed %d: %v\n%s", seed, err, dir["rules.json"].Data)
		}
	}
}

// What the schema refuses the reader refuses too, and it knows no name that
// the schema does not.
func TestSchemaAndReaderAgree(t *testing.T) {
	good, err := os.ReadFile("testdata/cases/rules.json")
	if err != nil {
		t.Fatal(err)
	}
	s := schema(t, "rules")
	for _, c := range [][2]string{{`"kind": "edited"`, `"kind": "edit"`}, {`"hold": "always"`, `"hold": "sometimes"`},
		{`"percent": 8`, `"per cent": 8`}, {`"each": true`, `"each": "yes"`},
		{`"after": "PT2H"`, `"after": "2 hours"`}, {`"groupBy": "recipient"`, `"groupBy": "row"`},
		{`"op": ">", "value": 5`, `"operator": ">", "value": 5`}, {`{"person": "head@marrowby.example"}`, `{}`},
		{`"from": "08:00"`, `"from": 8`}, {`"workingDays": true`, `"working": true`}} {
		if !bytes.Contains(good, []byte(c[0])) {
			t.Fatalf("the rules do not hold %s", c[0])
		}
		bad := bytes.Replace(good, []byte(c[0]), []byte(c[1]), 1)
		if fits(t, s, bad) == nil {
			t.Errorf("the schema lets %s through", c[1])
		}
		dir := os.DirFS("testdata/cases")
		if _, err := exchange.ReadBundle(changed{dir, "rules.json", bad}); err == nil ||
			!strings.Contains(err.Error(), "rules.json, /") {
			t.Errorf("the reader on %s: %v", c[1], err)
		}
	}
	if !json.Valid(good) {
		t.Error("not JSON")
	}
}

// changed is a folder in which one file holds something else.
type changed struct {
	fs.FS
	name string
	data []byte
}

func (c changed) Open(name string) (fs.File, error) {
	if name == c.name {
		return fstest.MapFS{name: {Data: c.data}}.Open(name)
	}
	return c.FS.Open(name)
}
