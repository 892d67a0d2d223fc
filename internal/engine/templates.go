package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// SaveTemplate writes a template: a new one where id is "". Emails that were
// incomplete for want of its words are judged again. What it was before stays as a version.
func (e *Engine) SaveTemplate(ctx context.Context, sheetID, id string, t *template.Template, version int64,
	actor string) (*store.Template, error) {
	if id != "" {
		if err := e.catchUp(ctx, sheetID, nil); err != nil {
			return nil, err
		}
	}
	var out *store.Template
	err := e.Store.Tx(ctx, func(tx *store.Store) error {
		if id != "" {
			if _, err := e.halt(ctx, tx, sheetID, nil); err != nil {
				return err
			}
		}
		sb, err := newRuleCache(tx).sheet(ctx, sheetID)
		if err != nil {
			return err
		}
		rests, err := RestsOn(ctx, tx, sb.record)
		if err != nil {
			return err
		}
		t.Use(rests)
		if err := t.Validate(sb.sheet); err != nil {
			return templateRefusal(err)
		}
		for _, other := range sb.templates {
			if other.ID != id && value.Fold(other.Name) == value.Fold(t.Name) {
				return &Refusal{Field: "/name", Message: "another template of this sheet has this name"}
			}
		}
		if err := e.keepFiles(ctx, tx, t); err != nil {
			return err
		}
		if id == "" {
			out = &store.Template{ID: store.NewID(), SheetID: sheetID, CreatedAt: e.now()}
		} else if out, err = tx.Template(ctx, id); err != nil {
			return err
		}
		if out.SheetID != sheetID {
			return store.ErrNotFound
		}
		if version != 0 && version != out.Version {
			return &Overtaken{What: "template", Version: out.Version}
		}
		var before *template.Template
		if id != "" {
			if before, err = out.Core(); err != nil {
				return err
			}
		}
		out.Version++
		t.Follow(before, out.Version)
		if err := out.SetCore(t); err != nil {
			return err
		}
		if err := tx.SaveTemplateVersion(ctx, out, actor, e.now()); err != nil {
			return err
		}
		if err := tx.ReviewTemplate(ctx, out.ID, e.now()); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventTemplateSaved, SheetID: sheetID,
			Detail: store.Detail(map[string]any{"template": out.ID, "version": out.Version})})
	})
	if err == nil {
		e.Wake()
	}
	return out, err
}

// keepFiles keeps what a template's images hold, and checks that what it names is kept.
func (e *Engine) keepFiles(ctx context.Context, tx *store.Store, t *template.Template) error {
	images := t.Images()
	if err := e.KeepImages(ctx, tx, images); err != nil {
		return err
	}
	var names []string
	shown := map[string]bool{}
	for _, i := range images {
		names, shown[i.File] = append(names, i.File), true
	}
	for i := range t.Attachments {
		if t.Attachments[i].Kind == template.FileKind {
			names = append(names, t.Attachments[i].File)
		}
	}
	kept, err := tx.FileSizes(ctx, names)
	if err != nil {
		return err
	}
	for i := range t.Attachments {
		a := &t.Attachments[i]
		if a.Kind != template.FileKind {
			continue
		}
		size, ok := kept[a.File]
		if !ok {
			return &Refusal{Field: fmt.Sprintf("/attachments/%d/file", i),
				Message: "an attachment of this template is not there any more; add it again"}
		}
		a.Size = int(size)
	}
	total := 0
	for name := range shown {
		total += int(kept[name])
	}
	for i := range t.Attachments {
		total += t.Attachments[i].Size
	}
	if total > template.MaxAttached {
		return &Refusal{Field: "/attachments", Message: fmt.Sprintf(
			"the images and attachments have %d MB together; an email carries up to %d MB",
			(total+1<<20-1)>>20, template.MaxAttached>>20)}
	}
	return nil
}

// templateRefusal refuses a template or a piece for what is wrong with it, with its place.
func templateRefusal(err error) error {
	return &Refusal{Field: template.PointerOf(err), Message: err.Error()}
}

// KeepImages keeps what images hold, and checks that what they name is kept.
func (e *Engine) KeepImages(ctx context.Context, tx *store.Store, images []*template.Image) error {
	var names []string
	for _, i := range images {
		if len(i.Data) > 0 {
			if err := tx.KeepFile(ctx, &store.File{ID: store.FileID(i.ID()), Type: i.Type, Size: int64(len(i.Data)),
				Data: i.Data, CreatedAt: e.now()}); err != nil {
				return err
			}
			i.File, i.Data = i.ID(), nil
		}
		names = append(names, i.File)
	}
	kept, err := tx.FileSizes(ctx, names)
	if err != nil {
		return err
	}
	for _, n := range names {
		if _, ok := kept[n]; !ok {
			return &Refusal{Field: "/body", Message: "an image of this text is not there any more; add it again"}
		}
	}
	return nil
}

// DeleteTemplate takes a template away. Where rules use it, it is refused with their list; its
// versions stay, for what they have written.
func (e *Engine) DeleteTemplate(ctx context.Context, sheetID, id string, actor string) error {
	return e.Store.Tx(ctx, func(tx *store.Store) error {
		rules, err := tx.Rules(ctx, sheetID)
		if err != nil {
			return err
		}
		var using []string
		for i := range rules {
			core, err := rules[i].Core()
			if err != nil {
				return err
			}
			if slices.Contains(core.Templates(), id) {
				using = append(using, rules[i].Letter+" ("+rules[i].Name+")")
			}
		}
		if len(using) > 0 {
			return refuse("it is used by %s; give each another template first", strings.Join(using, ", "))
		}
		t, err := tx.Template(ctx, id)
		if err != nil {
			return err
		}
		if t.SheetID != sheetID {
			return store.ErrNotFound
		}
		now := e.now()
		t.DeletedAt = &now
		if err := tx.SaveTemplate(ctx, t); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: now, Actor: actor, Kind: store.EventTemplateSaved, SheetID: sheetID,
			Detail: store.Detail(map[string]any{"template": id, "deleted": t.Name})})
	})
}

// PieceUse is a template that uses a piece of text.
type PieceUse struct{ Sheet, Template, Name string }

// PieceUses lists which templates use which piece, by its id.
func (e *Engine) PieceUses(ctx context.Context, s *store.Store) (map[string][]PieceUse, error) {
	list, err := s.Templates(ctx, "")
	if err != nil {
		return nil, err
	}
	out := map[string][]PieceUse{}
	for i := range list {
		t, err := list[i].Core()
		if err != nil {
			return nil, err
		}
		for _, id := range t.PieceIDs() {
			out[id] = append(out[id], PieceUse{list[i].SheetID, list[i].ID, list[i].Name})
		}
	}
	return out, nil
}

// SavePiece writes a piece of text: a new one where id is "". Every letter that uses it says
// it from now on.
func (e *Engine) SavePiece(ctx context.Context, id string, p *template.Piece, version int64,
	actor string) (*store.Piece, error) {
	if err := p.Validate(); err != nil {
		return nil, templateRefusal(err)
	}
	var out *store.Piece
	err := e.Store.Tx(ctx, func(tx *store.Store) error {
		all, err := tx.Pieces(ctx)
		if err != nil {
			return err
		}
		for _, other := range all {
			if other.ID != id && value.Fold(other.Name) == value.Fold(p.Name) {
				return &Refusal{Field: "/name", Message: "another piece of text has this name"}
			}
		}
		if err := e.KeepImages(ctx, tx, p.Images()); err != nil {
			return err
		}
		if id == "" {
			out = &store.Piece{ID: store.NewID(), CreatedAt: e.now()}
		} else if out, err = tx.Piece(ctx, id); err != nil {
			return err
		}
		if version != 0 && version != out.Version {
			return &Overtaken{What: "piece of text", Version: out.Version}
		}
		before := out.Content
		if err := out.SetCore(p); err != nil {
			return err
		}
		out.Version++
		if err := tx.SavePiece(ctx, out); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventPieceSaved,
			Detail: store.Detail(map[string]any{"piece": out.ID, "before": before, "after": out.Content})})
	})
	return out, err
}

// DeletePiece takes a piece of text away; where a template uses it, it is refused.
func (e *Engine) DeletePiece(ctx context.Context, id, actor string) error {
	return e.Store.Tx(ctx, func(tx *store.Store) error {
		p, err := tx.Piece(ctx, id)
		if err != nil {
			return err
		}
		uses, err := e.PieceUses(ctx, tx)
		if err != nil {
			return err
		}
		var names []string
		for _, u := range uses[id] {
			names = append(names, u.Name)
		}
		if len(names) > 0 {
			return refuse("%s is used by %s; remove it there first", p.Name, strings.Join(names, ", "))
		}
		now := e.now()
		p.DeletedAt = &now
		if err := tx.SavePiece(ctx, p); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: now, Actor: actor, Kind: store.EventPieceSaved,
			Detail: store.Detail(map[string]any{"piece": id, "deleted": p.Name})})
	})
}
