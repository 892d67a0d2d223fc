package store

import (
	"context"
	"time"
)

// Audited is a line of the audit: what somebody did to who may do what, to settings, or with
// what left the application. It is appended to, and nothing in it changes.
type Audited struct {
	ID      int64 `gorm:"primaryKey"`
	At      time.Time
	ActorID string
	Actor   string // the name then, or the address that was tried
	Network string // address
	Act     string
	Subject string // what it was done to, by its name then
	Was     string // JSON; "" where nothing was before
	Became  string // JSON
}

// TableName implements GORM's tabler.
func (Audited) TableName() string { return "audit" }

// What the audit tells of; what changes settings has the kind of its event.
const (
	ActSignIn       = "sign-in"
	ActSignInFailed = "sign-in-failed"
	ActSignOut      = "sign-out"
	ActSessionsOver = "sessions-ended"
	ActPassword     = "password-changed"
	ActLinkMade     = "link-made"
	ActExport       = "export"
)

// Doer is who acts, and from where.
type Doer struct{ ID, Name, Network string }

type doerKey struct{}

// WithDoer says who acts under the context.
func WithDoer(ctx context.Context, d *Doer) context.Context {
	return context.WithValue(ctx, doerKey{}, d)
}

// DoerOf gives who acts under the context; the zero Doer for the application itself.
func DoerOf(ctx context.Context) Doer {
	if d, _ := ctx.Value(doerKey{}).(*Doer); d != nil {
		return *d
	}
	return Doer{}
}

// auditKinds are the kinds of events that are lines of the audit too.
var auditKinds = map[string]bool{EventPersonSaved: true, EventTokenSaved: true, EventSettingSaved: true,
	EventFormSaved: true, EventSourceSaved: true}

// AddAudit appends a line to the audit. Who acts is told by the context, unless the line says.
func (s *Store) AddAudit(ctx context.Context, a Audited) error {
	d := DoerOf(ctx)
	if a.ActorID == "" && a.Actor == "" {
		a.ActorID, a.Actor = d.ID, d.Name
	}
	if a.Network == "" {
		a.Network = d.Network
	}
	a.At = a.At.UTC()
	a.Actor, a.Subject = clip(a.Actor, 254), clip(a.Subject, 300)
	a.Was, a.Became = clip(a.Was, maxAudited), clip(a.Became, maxAudited)
	return s.DB(ctx).Create(&a).Error
}

// maxAudited bounds what a line keeps of before and after, in characters.
const maxAudited = 8000

// AuditFilter picks lines of the audit; its zero value picks all.
type AuditFilter struct {
	Act     string
	ActorID string
	Network string
	Since   time.Time
	Before  int64 // id; 0 for from the newest on
}

// Audit gives lines of the audit, the newest first.
func (s *Store) Audit(ctx context.Context, f AuditFilter, limit int) (out []Audited, err error) {
	q := s.DB(ctx).Order("id DESC").Limit(limit)
	if f.Act != "" {
		q = q.Where("act = ?", f.Act)
	}
	if f.ActorID != "" {
		q = q.Where("actor_id = ?", f.ActorID)
	}
	if f.Network != "" {
		q = q.Where("network = ?", f.Network)
	}
	if !f.Since.IsZero() {
		q = q.Where("at >= ?", f.Since.UTC())
	}
	if f.Before > 0 {
		q = q.Where("id < ?", f.Before)
	}
	err = q.Find(&out).Error
	return out, err
}
