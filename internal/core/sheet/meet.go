package sheet

import "nivot/internal/core/value"

// Known is a row that an import may meet: its id and key.
type Known struct {
	ID      string
	Key     string // folded; "" where the row has none
	Deleted bool
	Gone    bool
}

// Meeting is what an import does to one row of the file.
type Meeting struct {
	Incoming int    // index into the file's rows
	Key      string // folded; "" where it has none
	Row      string // the row it is, or "" for a new one
	Returns  bool   // the row was deleted or gone and is back
	Doubled  bool   // its key stood in the file before
}

// Meet matches the rows of a file with those that are there, by key: the n-th
// row of a key in the file meets the n-th row of that key in the sheet, those
// that are there before those that were deleted, so that the same file again
// changes nothing. A row without a key is a row of its own. missing lists the
// rows that the file does not have any more; they are kept and marked gone.
//
// A deleted row whose key comes back is the old row again. known is in the order
// of entry.
func Meet(known []Known, keys []string) (meetings []Meeting, missing []string) {
	byKey := make(map[string][]*Known, len(known))
	for _, deleted := range []bool{false, true} {
		for i := range known {
			if k := &known[i]; k.Key != "" && k.Deleted == deleted {
				byKey[k.Key] = append(byKey[k.Key], k)
			}
		}
	}
	met := make(map[string]int, len(keys)) // how many rows of the file had the key so far
	meetings = make([]Meeting, 0, len(keys))
	for i, key := range keys {
		f := value.Fold(key)
		m := Meeting{Incoming: i, Key: f}
		if f != "" {
			n := met[f]
			met[f], m.Doubled = n+1, n > 0
			if there := byKey[f]; n < len(there) {
				m.Row, m.Returns = there[n].ID, there[n].Deleted || there[n].Gone
			}
		}
		meetings = append(meetings, m)
	}
	for _, k := range known {
		if k.Key != "" && !k.Deleted {
			if met[k.Key] == 0 {
				missing = append(missing, k.ID)
			} else {
				met[k.Key]--
			}
		}
	}
	return meetings, missing
}

// Doubled counts the values of a column that stood in it before, by text
// comparison; empty ones do not count.
func Doubled(cells []string) (n int) {
	seen := make(map[string]struct{}, len(cells))
	for _, c := range cells {
		f := value.Fold(c)
		if f == "" {
			continue
		}
		if _, ok := seen[f]; ok {
			n++
		}
		seen[f] = struct{}{}
	}
	return n
}
