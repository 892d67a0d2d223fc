// Package layers holds the test that imports point one way.
package layers

import (
	"os/exec"
	"strings"
	"testing"
)

// allowed says which of Nivot's packages each may import: core knows nobody,
// store knows core, the engine knows what keeps and carries, the API knows the
// engine, and cmd wires all.
var allowed = map[string][]string{
	"nivot/internal/core/value":     {},
	"nivot/internal/core/jsoncheck": {},
	"nivot/internal/core/calendar":  {"core/value"},
	"nivot/internal/core/formula":   {"core/value", "core/calendar"},
	"nivot/internal/core/sheet":     {"core/value", "core/calendar", "core/formula"},
	"nivot/internal/core/delivery":  {"core/calendar"},
	"nivot/internal/core/reason":    {"core/value", "core/calendar"},
	"nivot/internal/core/rule": {"core/value", "core/calendar", "core/formula", "core/sheet", "core/reason",
		"core/jsoncheck"},
	"nivot/internal/core/template":         {"core/value", "core/sheet", "core/rule"},
	"nivot/internal/core/plan":             {"core"},
	"nivot/internal/exchange":              {"core"},
	"nivot/internal/exchange/exchangetest": {"exchange"},
	"nivot/internal/mail":                  {"core"},
	"nivot/internal/fetch":                 {},
	"nivot/internal/practice":              {},
	"nivot/internal/database":              {},
	"nivot/internal/database/dbtest":       {"database", "store"},
	"nivot/internal/store":                 {"core"},
	"nivot/internal/engine":                {"core", "store", "mail", "exchange", "fetch"},
	"nivot/internal/api":                   {"core", "store", "engine", "exchange", "mail", "practice"},
	"nivot/internal/demo":                  {"core", "store", "engine", "exchange"},
	"nivot/internal/bench": {"core", "store", "engine", "exchange", "mail", "practice", "database",
		"api"},
	"nivot/web": {},
	"nivot/cmd/nivot": {"core", "store", "engine", "exchange", "mail", "practice", "database",
		"demo", "api", "bench"},
}

// forbidden are packages of the standard library that the core must not use:
// it has no clock, no network, no database and no files.
var forbidden = []string{"net", "net/http", "os", "database/sql", "io/fs", "log", "log/slog", "sync"}

func TestImportsPointOneWay(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}}:{{range .Imports}} {{.}}{{end}}`,
		"nivot/...").CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		pkg, imports, _ := strings.Cut(line, ":")
		if pkg == "nivot/internal/layers" {
			continue
		}
		may, known := allowed[pkg]
		if !known {
			t.Errorf("%s is in no layer; say in this test what it may import", pkg)
		}
		for _, imp := range strings.Fields(imports) {
			if strings.HasPrefix(pkg, "nivot/internal/core/") {
				for _, f := range forbidden {
					if imp == f {
						t.Errorf("%s imports %s; the core is pure", pkg, imp)
					}
				}
			}
			if !strings.HasPrefix(imp, "nivot/") || imp == "nivot/web" && pkg == "nivot/cmd/nivot" {
				continue
			}
			short, ok := strings.TrimPrefix(imp, "nivot/internal/"), false
			for _, m := range may {
				ok = ok || short == m || strings.HasPrefix(short, m+"/")
			}
			if !ok {
				t.Errorf("%s imports %s, which its layer may not", pkg, imp)
			}
		}
	}
}
