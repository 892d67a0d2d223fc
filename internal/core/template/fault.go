package template

import (
	"errors"

	"nivot/internal/core/rule"
)

// Fault is what is wrong with a template or a piece, and where.
type Fault struct {
	Pointer string // JSON pointer (RFC 6901) into it
	Err     error
}

// Error implements error.
func (f *Fault) Error() string { return f.Err.Error() }

// Unwrap gives the error itself.
func (f *Fault) Unwrap() error { return f.Err }

// in puts a pointer before that of an error; nil stays nil.
func in(pointer string, err error) error {
	if err == nil {
		return nil
	}
	var inner *Fault
	var condition *rule.FieldError
	switch {
	case errors.As(err, &inner):
		pointer += inner.Pointer
	case errors.As(err, &condition):
		pointer += condition.Pointer
	}
	return &Fault{pointer, err}
}

// PointerOf gives the place of an error in a template; "" where it has none.
func PointerOf(err error) string {
	var f *Fault
	if errors.As(err, &f) {
		return f.Pointer
	}
	return ""
}
