package engine

import (
	"fmt"
)

// Refusal is an answer to a person: what they asked for cannot be done, and
// why. Field names the part at fault as a JSON pointer, where there is one.
type Refusal struct {
	Field   string
	Message string
}

func (r *Refusal) Error() string { return r.Message }

// Overtaken says that what is saved is not the version that was opened:
// somebody else has saved a newer one meanwhile, and the later writer chooses.
type Overtaken struct {
	What    string // "rule", "template"
	Version int64  // the one that stands now
}

func (o *Overtaken) Error() string {
	return "somebody else has saved this " + o.What + " meanwhile; look at both before you save"
}

func refuse(format string, args ...any) error { return &Refusal{Message: fmt.Sprintf(format, args...)} }
