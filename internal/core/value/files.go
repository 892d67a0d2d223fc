package value

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// The bounds of a cell of files.
const (
	maxFiles    = 20  // names in a cell
	maxFileName = 160 // characters of a name
)

// ParseFiles reads the names of files that a cell holds, parted by semicolons or line breaks.
// Of a path the last part counts, a name said twice counts once. At least one has to be there.
func ParseFiles(s string) ([]string, error) {
	var out []string
	seen := map[string]bool{}
	for _, part := range strings.FieldsFunc(s, func(r rune) bool { return r == ';' || r == '\n' || r == '\r' }) {
		name := Trim(part[strings.LastIndexAny(part, `/\`)+1:])
		switch {
		case name == "" && Trim(part) == "":
			continue
		case name == "" || name == "." || name == "..":
			return nil, fmt.Errorf("%q is a folder, not a file", Trim(part))
		case utf8.RuneCountInString(name) > maxFileName:
			return nil, fmt.Errorf("the name of a file has up to %d characters", maxFileName)
		case strings.ContainsFunc(name, unicode.IsControl):
			return nil, fmt.Errorf("%q is not the name of a file", name)
		}
		if f := Fold(name); !seen[f] {
			seen[f] = true
			out = append(out, name)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("no file is named")
	}
	if len(out) > maxFiles {
		return nil, fmt.Errorf("a cell names up to %d files", maxFiles)
	}
	return out, nil
}

// OfFiles makes a filled cell that names files.
func OfFiles(names ...string) Value {
	return Value{State: Filled, Type: File, Str: strings.Join(names, "; ")}
}

// Files lists the names in a cell of files; none in any other.
func (v Value) Files() []string {
	if !v.IsFilled() || v.Type != File {
		return nil
	}
	return strings.Split(v.Str, "; ")
}
