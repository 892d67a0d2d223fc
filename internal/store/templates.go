package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nivot/internal/core/template"
)

// Template is a template as it is kept.
type Template struct {
	ID        string `gorm:"primaryKey"`
	SheetID   string
	Name      string
	Content   string // the core's template as JSON
	Version   int64
	CreatedAt time.Time
	DeletedAt *time.Time
}

// TemplateVersion is a template as it was once saved. It never changes.
type TemplateVersion struct {
	TemplateID string `gorm:"primaryKey"`
	Version    int64  `gorm:"primaryKey"`
	Content    string
	SavedBy    string
	SavedAt    time.Time
}

// Core turns the record into the core's template.
func (t *Template) Core() (*template.Template, error) {
	c, err := readTemplate(t.ID, t.Content)
	if err == nil {
		c.ID, c.Name, c.Version = t.ID, t.Name, t.Version
	}
	return c, err
}

// Core turns the record into the core's template.
func (v *TemplateVersion) Core() (*template.Template, error) {
	return readTemplate(v.TemplateID, v.Content)
}

func readTemplate(id, content string) (*template.Template, error) {
	c := &template.Template{}
	if err := json.Unmarshal([]byte(content), c); err != nil {
		return nil, fmt.Errorf("template %s: %w", id, err)
	}
	c.ID = id
	return c, nil
}

// SetCore puts a template's content into the record.
func (t *Template) SetCore(c *template.Template) error {
	own := *c
	own.ID = ""
	b, err := json.Marshal(&own)
	if err != nil {
		return err
	}
	t.Name, t.Content = c.Name, string(b)
	return nil
}

// Templates lists a sheet's templates by name; all sheets' for "".
func (s *Store) Templates(ctx context.Context, sheetID string) (out []Template, err error) {
	q := s.DB(ctx).Where("deleted_at IS NULL")
	if sheetID != "" {
		q = q.Where("sheet_id = ?", sheetID)
	}
	err = q.Order("name, id").Find(&out).Error
	return out, err
}

// Template finds a template.
func (s *Store) Template(ctx context.Context, id string) (*Template, error) {
	var t Template
	return &t, first(s.DB(ctx).First(&t, "id = ? AND deleted_at IS NULL", id).Error)
}

// DeletedTemplate finds a template that was deleted, and locks it.
func (s *Store) DeletedTemplate(ctx context.Context, id string) (*Template, error) {
	var t Template
	return &t, first(s.DB(ctx).Raw("SELECT * FROM templates WHERE id = ? AND deleted_at IS NOT NULL FOR UPDATE",
		id).Take(&t).Error)
}

// TemplateName gives a template's name, though it has been deleted; "" where there never was one.
func (s *Store) TemplateName(ctx context.Context, id string) (name string, err error) {
	err = s.DB(ctx).Raw("SELECT name FROM templates WHERE id = ?", id).Scan(&name).Error
	return name, err
}

// SaveTemplate writes a template without a new version.
func (s *Store) SaveTemplate(ctx context.Context, t *Template) error {
	return s.renewing(ctx, t.SheetID, func(db *gorm.DB) error {
		return db.Save(t).Error
	})
}

// SaveTemplateVersion writes a template, and its version beside those before.
func (s *Store) SaveTemplateVersion(ctx context.Context, t *Template, by string, at time.Time) error {
	if err := s.SaveTemplate(ctx, t); err != nil {
		return err
	}
	return s.DB(ctx).Create(&TemplateVersion{t.ID, t.Version, t.Content, by, at}).Error
}

// TemplateVersions lists a template's versions, the newest first, without their content.
func (s *Store) TemplateVersions(ctx context.Context, id string) (out []TemplateVersion, err error) {
	err = s.DB(ctx).Omit("content").Where("template_id = ?", id).Order("version DESC").Find(&out).Error
	return out, err
}

// TemplateVersion finds one version of a template.
func (s *Store) TemplateVersion(ctx context.Context, id string, version int64) (*TemplateVersion, error) {
	var v TemplateVersion
	return &v, first(s.DB(ctx).First(&v, "template_id = ? AND version = ?", id, version).Error)
}

// Piece is a text that many templates use, as it is kept.
type Piece struct {
	ID        string `gorm:"primaryKey"`
	Name      string
	Content   string // the core's piece as JSON
	Version   int64
	CreatedAt time.Time
	DeletedAt *time.Time
}

// Core turns the record into the core's piece.
func (p *Piece) Core() (*template.Piece, error) {
	c := &template.Piece{}
	if err := json.Unmarshal([]byte(p.Content), c); err != nil {
		return nil, fmt.Errorf("piece %s: %w", p.ID, err)
	}
	c.ID, c.Name = p.ID, p.Name
	return c, nil
}

// SetCore puts a piece's content into the record.
func (p *Piece) SetCore(c *template.Piece) error {
	own := *c
	own.ID = ""
	b, err := json.Marshal(&own)
	if err != nil {
		return err
	}
	p.Name, p.Content = c.Name, string(b)
	return nil
}

// Pieces lists the pieces of text by name.
func (s *Store) Pieces(ctx context.Context) (out []Piece, err error) {
	err = s.DB(ctx).Where("deleted_at IS NULL").Order("name, id").Find(&out).Error
	return out, err
}

// Piece finds a piece of text.
func (s *Store) Piece(ctx context.Context, id string) (*Piece, error) {
	var p Piece
	return &p, first(s.DB(ctx).First(&p, "id = ? AND deleted_at IS NULL", id).Error)
}

// SavePiece writes a piece of text.
func (s *Store) SavePiece(ctx context.Context, p *Piece) error {
	return s.renewing(ctx, common, func(db *gorm.DB) error {
		return db.Save(p).Error
	})
}
