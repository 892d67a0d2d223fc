package store

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"

	"github.com/klauspost/compress/zstd"

	"nivot/internal/core/template"
)

// Letter is the rendered content of a delivery.
type Letter struct {
	DeliveryID int64
	HTML       string
	Text       string
	Subject    string    // where it is longer than its delivery keeps it
	Carried    []Carried // what goes with it
	OptOut     bool      // mail readers are to offer to unsubscribe
	By         Wording   // what wrote it
}

// Wording is a text of a version of a template; zero where none is known.
type Wording struct {
	TemplateID string
	Version    int64
	Variant    int // 1 is the template's own
}

// Carried is a file that goes with an email: an image of its letter, or an attachment.
type Carried struct {
	File   string `json:"file"` // its name in files: the SHA-256 of its content in hex
	Type   string `json:"type"`
	Name   string `json:"name"`
	Inline bool   `json:"inline,omitempty"` // shown by the letter, under its Content-ID
}

// NewLetter makes a letter of what has been rendered.
func NewLetter(r *template.Rendered) *Letter {
	l := &Letter{HTML: r.HTML, Text: r.Text, OptOut: r.OptOut, By: Wording{r.Template, r.Version, r.Variant}}
	if clip(r.Subject, maxKept) != r.Subject {
		l.Subject = r.Subject
	}
	for _, i := range r.Images {
		l.Carried = append(l.Carried, Carried{File: i.ID(), Type: i.Type, Name: "image" + template.Ending(i.Type),
			Inline: true})
	}
	for _, a := range r.Attachments {
		l.Carried = append(l.Carried, Carried{File: a.File, Type: a.Type, Name: a.Name})
	}
	return l
}

// A letter is kept as a pack: the version of its form and the form. Version 0, of letters older
// than packs, is JSON. Version 1 is a zstd frame (RFC 8878) of its four parts, each after its
// length as an unsigned varint: HTML, text, what is carried as JSON, and "1" where it offers to
// opt out, and, where it is longer than its delivery keeps it, the subject; its dictionary are the parts of the first
// letter that its wording wrote.
const (
	packJSON = 0
	packZstd = 1
)

var errPack = errors.New("an email that was kept cannot be read")

// dictionaryID is that of every dictionary: which one it is says the letter's row.
const dictionaryID = 1

// maxLetter bounds what is unpacked, in bytes.
const maxLetter = 64 << 20

func (l *Letter) parts() []byte {
	carried, optOut := "", ""
	if len(l.Carried) > 0 {
		carried = Detail(l.Carried)
	}
	if l.OptOut {
		optOut = "1"
	}
	var b []byte
	parts := []string{l.HTML, l.Text, carried, optOut}
	if l.Subject != "" {
		parts = append(parts, l.Subject)
	}
	for _, p := range parts {
		b = binary.AppendUvarint(b, uint64(len(p)))
		b = append(b, p...)
	}
	return b
}

func (l *Letter) readParts(b []byte) error {
	var parts [5]string
	for i := range parts {
		if i == 4 && len(b) == 0 {
			break
		}
		n, k := binary.Uvarint(b)
		if k <= 0 || n > uint64(len(b)-k) {
			return errPack
		}
		parts[i], b = string(b[k:k+int(n)]), b[k+int(n):]
	}
	l.HTML, l.Text, l.OptOut, l.Subject = parts[0], parts[1], parts[3] != "", parts[4]
	if parts[2] == "" {
		return nil
	}
	return json.Unmarshal([]byte(parts[2]), &l.Carried)
}

// packer packs letters with one dictionary.
type packer struct {
	encoder *zstd.Encoder
	decoder *zstd.Decoder
}

func newPacker(dictionary []byte) (*packer, error) {
	to := []zstd.EOption{zstd.WithEncoderConcurrency(1), zstd.WithLowerEncoderMem(true), zstd.WithEncoderCRC(true)}
	from := []zstd.DOption{zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxLetter)}
	if len(dictionary) > 0 {
		to = append(to, zstd.WithEncoderDictRaw(dictionaryID, dictionary))
		from = append(from, zstd.WithDecoderDictRaw(dictionaryID, dictionary))
	}
	e, err := zstd.NewWriter(nil, to...)
	if err != nil {
		return nil, err
	}
	d, err := zstd.NewReader(nil, from...)
	return &packer{e, d}, err
}

func (p *packer) pack(l *Letter) []byte { return p.encoder.EncodeAll(l.parts(), []byte{packZstd}) }

// packers keeps the packers of the dictionaries that were used last, by their ids. A dictionary
// never changes.
type packers struct {
	mu sync.Mutex
	by map[int64]*packer
}

// maxPackers is how many are kept.
const maxPackers = 16

func (c *packers) get(id int64, fetch func() ([]byte, error)) (*packer, error) {
	c.mu.Lock()
	p := c.by[id]
	c.mu.Unlock()
	if p != nil {
		return p, nil
	}
	data, err := fetch()
	if err != nil {
		return nil, err
	}
	if p, err = newPacker(data); err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.by == nil || len(c.by) >= maxPackers {
		c.by = map[int64]*packer{}
	}
	c.by[id] = p
	return p, nil
}

// letterBase is what the letters of a wording differ from: the parts of the first of them.
type letterBase struct {
	ID         int64 `gorm:"primaryKey"`
	TemplateID string
	Version    int64
	Variant    int
	Content    []byte // packed without a dictionary
}

// TableName implements GORM's tabler.
func (letterBase) TableName() string { return "letter_bases" }

// plain packs and unpacks without a dictionary.
var plain = sync.OnceValue(func() *packer {
	p, err := newPacker(nil)
	if err != nil {
		panic(err) // its options are constants
	}
	return p
})

// baseOf finds the base of a letter's wording, or makes it of this letter.
func (s *Store) baseOf(ctx context.Context, l *Letter) (int64, error) {
	find := func() (id int64, err error) {
		err = s.DB(ctx).Raw("SELECT id FROM letter_bases WHERE template_id = ? AND version = ? AND variant = ?",
			l.By.TemplateID, l.By.Version, l.By.Variant).Scan(&id).Error
		return id, err
	}
	id, err := find()
	if err != nil || id != 0 {
		return id, err
	}
	err = s.DB(ctx).Exec("INSERT IGNORE INTO letter_bases (template_id, version, variant, content) VALUES (?, ?, ?, ?)",
		l.By.TemplateID, l.By.Version, l.By.Variant, plain().encoder.EncodeAll(l.parts(), nil)).Error
	if err != nil {
		return 0, err
	}
	return find()
}

func (s *Store) packer(ctx context.Context, base int64) (*packer, error) {
	if base == 0 {
		return plain(), nil
	}
	return s.packers.get(base, func() ([]byte, error) {
		var b letterBase
		if err := s.DB(ctx).First(&b, "id = ?", base).Error; err != nil {
			return nil, fmt.Errorf("what a letter differs from: %w", err)
		}
		return plain().decoder.DecodeAll(b.Content, nil)
	})
}

// PutLetters writes or replaces rendered contents, each as its difference from what its wording
// wrote first.
func (s *Store) PutLetters(ctx context.Context, ls []Letter) error {
	bases := map[Wording]int64{}
	return chunks(ls, 200, func(c []Letter) error {
		args := make([]any, 0, 3*len(c))
		for i := range c {
			l := &c[i]
			base, known := bases[l.By]
			if l.By.TemplateID != "" && !known {
				var err error
				if base, err = s.baseOf(ctx, l); err != nil {
					return err
				}
				bases[l.By] = base
			}
			p, err := s.packer(ctx, base)
			if err != nil {
				return err
			}
			args = append(args, l.DeliveryID, base, p.pack(l))
		}
		return s.DB(ctx).Exec("REPLACE INTO letters (delivery_id, base_id, pack) VALUES (?,?,?)"+strings.Repeat(",(?,?,?)",
			len(c)-1), args...).Error
	})
}

// Letter gives a delivery's rendered content.
func (s *Store) Letter(ctx context.Context, id int64) (*Letter, error) {
	list, err := s.Letters(ctx, []int64{id})
	if err != nil {
		return nil, err
	}
	if list[id] == nil {
		return nil, ErrNotFound
	}
	return list[id], nil
}

// Letters gives the rendered contents of those deliveries that have one.
func (s *Store) Letters(ctx context.Context, ids []int64) (map[int64]*Letter, error) {
	var kept []struct {
		DeliveryID, BaseID int64
		Pack               []byte
		TemplateID         string
		Version            int64
		Variant            int
	}
	err := s.DB(ctx).Raw(`SELECT l.delivery_id, l.base_id, l.pack, b.template_id, b.version, b.variant
		FROM letters l LEFT JOIN letter_bases b ON b.id = l.base_id WHERE l.delivery_id IN ?`, ids).Scan(&kept).Error
	if err != nil {
		return nil, err
	}
	out := make(map[int64]*Letter, len(kept))
	for i := range kept {
		k := &kept[i]
		l := &Letter{DeliveryID: k.DeliveryID, By: Wording{k.TemplateID, k.Version, k.Variant}}
		p, err := s.packer(ctx, k.BaseID)
		if err == nil {
			err = l.unpack(p, k.Pack)
		}
		if err != nil {
			return nil, fmt.Errorf("letter %d: %w", k.DeliveryID, err)
		}
		out[k.DeliveryID] = l
	}
	return out, nil
}

func (l *Letter) unpack(p *packer, pack []byte) error {
	if len(pack) == 0 {
		return errPack
	}
	switch body := pack[1:]; pack[0] {
	case packJSON:
		var old struct {
			HTML    string
			Text    string
			Carried *string
			OptOut  json.RawMessage
		}
		if err := json.Unmarshal(body, &old); err != nil {
			return err
		}
		l.HTML, l.Text, l.OptOut = old.HTML, old.Text, bytes.Equal(old.OptOut, []byte("1")) ||
			bytes.Equal(old.OptOut, []byte("true"))
		if old.Carried == nil {
			return nil
		}
		return json.Unmarshal([]byte(*old.Carried), &l.Carried)
	case packZstd:
		parts, err := p.decoder.DecodeAll(body, nil)
		if err != nil {
			return err
		}
		return l.readParts(parts)
	}
	return errPack
}
