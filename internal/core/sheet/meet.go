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
	Doubled  bool   // its key stood in the file before: kept as a row of its own
}

// Meet matches the rows of a file with those that are there, by key. The
// first row with a key is the one meant by it; a second one of the same key,
// and a row without a key, is a row of its own. missing lists the rows that
// the file does not have any more; they are kept and marked gone.
//
// A deleted row whose key comes back is the old row again.
func Meet(known []Known, keys []string) (meetings []Meeting, missing []string) {
	byKey := make(map[string]*Known, len(known))
	for i := range known {
		k := &known[i]
		if k.Key == "" {
			continue
		}
		if have, ok := byKey[k.Key]; !ok || have.Deleted && !k.Deleted {
			byKey[k.Key] = k
		}
	}
	seen := make(map[string]bool, len(keys))
	meetings = make([]Meeting, 0, len(keys))
	for i, key := range keys {
		f := value.Fold(key)
		m := Meeting{Incoming: i, Key: f}
		switch {
		case f == "":
		case seen[f]:
			m.Doubled = true
		default:
			seen[f] = true
			if k, ok := byKey[f]; ok {
				m.Row, m.Returns = k.ID, k.Deleted || k.Gone
			}
		}
		meetings = append(meetings, m)
	}
	for i := range known {
		k := &known[i]
		if k.Key != "" && !k.Deleted && !seen[k.Key] {
			missing = append(missing, k.ID)
		}
	}
	return meetings, missing
}
