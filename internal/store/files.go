package store

import (
	"context"
	"encoding/hex"
	"time"

	"gorm.io/gorm/clause"
)

// File is what emails carry, images and attachments, kept once by its content.
type File struct {
	ID        []byte `gorm:"primaryKey"` // SHA-256 of Data
	Type      string // a media type
	Size      int64
	Data      []byte
	CreatedAt time.Time
}

// KeepFile keeps a file; one that is there already stays.
func (s *Store) KeepFile(ctx context.Context, f *File) error {
	return s.DB(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(f).Error
}

// FileID reads a file's name, the SHA-256 of its content in hex; nil is none.
func FileID(name string) []byte {
	id, err := hex.DecodeString(name)
	if err != nil || len(id) != 32 {
		return nil
	}
	return id
}

// File finds a file by its name.
func (s *Store) File(ctx context.Context, name string) (*File, error) {
	var f File
	return &f, first(s.DB(ctx).First(&f, "id = ?", FileID(name)).Error)
}

// FileSizes gives the sizes, in bytes, of those files that are kept, by name.
func (s *Store) FileSizes(ctx context.Context, names []string) (map[string]int64, error) {
	if len(names) == 0 {
		return nil, nil
	}
	ids := make([][]byte, 0, len(names))
	for _, n := range names {
		ids = append(ids, FileID(n))
	}
	var fs []File
	if err := s.DB(ctx).Select("id", "size").Where("id IN ?", ids).Find(&fs).Error; err != nil {
		return nil, err
	}
	out := map[string]int64{}
	for _, f := range fs {
		out[hex.EncodeToString(f.ID)] = f.Size
	}
	return out, nil
}
