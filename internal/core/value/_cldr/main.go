// Command cldr writes locales.json: what the locales library, which is made of
// CLDR, says of every language, in the form that package value reads. It is run
// by hand when the library changes:
//
//	cd internal/core/value/_cldr && go run .
//
// The imports are many, so it first writes a program that has them and runs it.
package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"sort"
	"strings"
)

// kept are the languages, and the scripts and regions that are written so
// differently that they stand beside their language.
var kept = regexp.MustCompile(`^([a-z]{2,3}|zh_Hant|sr_Latn|pt_PT|uz_Cyrl|bs_Cyrl|az_Cyrl)$`)

func main() {
	dir, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/go-playground/locales").Output()
	must(err)
	entries, err := os.ReadDir(strings.TrimSpace(string(dir)))
	must(err)
	var names []string
	for _, e := range entries {
		if e.IsDir() && kept.MatchString(e.Name()) && e.Name() != "cmd" {
			names = append(names, e.Name())
		}
	}
	sort.Strings(names)
	var b strings.Builder
	b.WriteString("package main\n\nimport (\n\t\"github.com/go-playground/locales\"\n")
	for _, n := range names {
		fmt.Fprintf(&b, "\t%q\n", "github.com/go-playground/locales/"+n)
	}
	b.WriteString(")\n\nvar all = []locales.Translator{\n")
	for _, n := range names {
		fmt.Fprintf(&b, "\t%s.New(),\n", n)
	}
	b.WriteString("}\n")
	here := "extract"
	must(os.WriteFile(filepath.Join(here, "all.go"), []byte(b.String()), 0o644))
	cmd := exec.Command("go", "run", "./"+here)
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	must(err)
	must(os.Remove(filepath.Join(here, "all.go")))
	must(os.WriteFile("../locales.json", out, 0o644))
}

func must(err error) {
	if err != nil {
		panic(err)
	}
}
