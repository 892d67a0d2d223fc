package store

import (
	"context"
	"database/sql"
	"fmt"
	"reflect"
	"strings"
	"time"

	"gorm.io/gorm/schema"
)

// What sending writes into a delivery has its room from the start. A row that grows when it is
// updated, as one does whose NULL becomes a value, makes the database move it and write its whole
// page anew: an email then cost 17 kB of redo where 1 kB does.

// never is how an instant is kept that has not come. It is later than any other, so that what
// looks for what has come does not find it; what looks for the latest has to leave it out.
const never = "9999-12-31"

// hasGone is the condition of what has been marked "sending" once.
const hasGone = "sending_at < '" + never + "'"

var neverAt = time.Date(9999, 12, 31, 0, 0, 0, 0, time.UTC)

// roomForReply is how many bytes a reply takes at the least; most mail servers say no more.
const roomForReply = 80

func init() {
	schema.RegisterSerializer("instant", instants{})
	schema.RegisterSerializer("roomy", roomy{})
}

// instants keeps a *time.Time in a column that is never NULL.
type instants struct{}

// Scan implements schema.SerializerInterface.
func (instants) Scan(ctx context.Context, field *schema.Field, dst reflect.Value, v any) error {
	var t *time.Time
	if err := (unlessNever{&t}).Scan(v); err != nil {
		return fmt.Errorf("%s: %w", field.Name, err)
	}
	return field.Set(ctx, dst, t)
}

// Value implements schema.SerializerValuerInterface.
func (instants) Value(_ context.Context, field *schema.Field, _ reflect.Value, v any) (any, error) {
	t, ok := v.(*time.Time)
	if !ok {
		return nil, fmt.Errorf("%s is a %T, not an instant", field.Name, v)
	}
	return instant(t), nil
}

// instant is what the database keeps of an instant that may not have come.
func instant(t *time.Time) time.Time {
	if t == nil {
		return neverAt
	}
	return *t
}

// unlessNever reads an instant that may not have come.
type unlessNever struct{ to **time.Time }

// Scan implements sql.Scanner.
func (w unlessNever) Scan(v any) error {
	var t sql.NullTime
	if err := t.Scan(v); err != nil {
		return err
	}
	*w.to = nil
	if t.Valid && !t.Time.Equal(neverAt) {
		*w.to = &t.Time
	}
	return nil
}

// roomy keeps a reply with spaces behind it, up to roomForReply.
type roomy struct{}

// Scan implements schema.SerializerInterface.
func (roomy) Scan(ctx context.Context, field *schema.Field, dst reflect.Value, v any) error {
	var s sql.NullString
	if err := s.Scan(v); err != nil {
		return fmt.Errorf("%s: %w", field.Name, err)
	}
	return field.Set(ctx, dst, tight(s.String))
}

// Value implements schema.SerializerValuerInterface.
func (roomy) Value(_ context.Context, _ *schema.Field, _ reflect.Value, v any) (any, error) {
	s, _ := v.(string)
	return withRoom(s), nil
}

// withRoom is a reply as it is kept.
func withRoom(s string) string {
	s = clip(s, maxKept)
	return s + strings.Repeat(" ", max(0, roomForReply-len(s)))
}

// tight is a reply as it was.
func tight(s string) string { return strings.TrimRight(s, " ") }
