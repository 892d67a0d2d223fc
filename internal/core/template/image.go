package template

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
)

// Image is a picture shipped inside the email, once, whatever how often it
// stands there. It is kept by its content: File names that, or Data holds it
// where it has not been kept yet, as in a bundle.
type Image struct {
	File  string `json:"file,omitempty"` // SHA-256 of the content in hex
	Type  string `json:"type"`           // image/png, image/jpeg or image/gif
	Data  []byte `json:"data,omitempty"` // base64 in JSON
	Alt   Line   `json:"alt"`
	Width int    `json:"width,omitempty"` // pixels; 0 for its own
}

// The bounds of a picture, in bytes and in pixels of its width: that of the letter.
const (
	MaxImage  = 1 << 20
	PageWidth = 600
)

// ImageTypes are the types of pictures that email programs show, with the bytes that such a
// file begins with.
var ImageTypes = map[string]string{"image/png": "\x89PNG\r\n\x1a\n", "image/jpeg": "\xff\xd8\xff", "image/gif": "GIF8"}

func (i *Image) validate(p *place) error {
	head, ok := ImageTypes[i.Type]
	if !ok {
		return fmt.Errorf("an image is a PNG, JPEG or GIF, not %q", i.Type)
	}
	if i.Width < 0 || i.Width > PageWidth {
		return fmt.Errorf("an image is at most %d pixels wide", PageWidth)
	}
	if err := i.Alt.validate(p); err != nil {
		return err
	}
	if len(i.Data) == 0 {
		if !isContentID(i.File) {
			return fmt.Errorf("an image names its file, or holds its data")
		}
		return nil
	}
	if len(i.Data) > MaxImage {
		return fmt.Errorf("an image has up to %d kB", MaxImage>>10)
	}
	if !bytes.HasPrefix(i.Data, []byte(head)) {
		return fmt.Errorf("the image is not of type %s", i.Type)
	}
	return nil
}

// ID gives the image's content as File names it.
func (i *Image) ID() string {
	if i.File != "" {
		return i.File
	}
	return ContentID(i.Data)
}

// ContentID names content by itself: its SHA-256 in hex.
func ContentID(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

func isContentID(name string) bool {
	b, err := hex.DecodeString(name)
	return err == nil && len(b) == sha256.Size
}
