package template

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	_ "image/gif" // the kinds of pictures that are read
	_ "image/jpeg"
	_ "image/png"
	"path"
	"slices"
	"strings"
	"unicode/utf8"
)

// maxPixels bounds a picture's area, so that a small file cannot unpack to one that fills memory.
const maxPixels = 24_000_000

// ReadImage reads a picture that is to stand in a letter: its media type and its size in
// pixels. What is broken, too large or no picture is refused.
func ReadImage(data []byte) (typ string, width, height int, err error) {
	if len(data) > MaxImage {
		return "", 0, 0, fmt.Errorf("it has %d kB; an image in an email has up to %d kB", len(data)>>10, MaxImage>>10)
	}
	head, format, err := image.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		if errors.Is(err, image.ErrFormat) {
			return "", 0, 0, fmt.Errorf("it is no PNG, JPEG or GIF, which are what email programs show")
		}
		return "", 0, 0, fmt.Errorf("it is broken: %w", err)
	}
	if head.Width <= 0 || head.Height <= 0 || head.Width*head.Height > maxPixels {
		return "", 0, 0, fmt.Errorf("it has %d x %d pixels, which is too large for an email", head.Width, head.Height)
	}
	if _, _, err := image.Decode(bytes.NewReader(data)); err != nil {
		return "", 0, 0, fmt.Errorf("it is broken: %w", err)
	}
	return "image/" + format, head.Width, head.Height, nil
}

// kind is a kind of file whose content tells it.
type kind struct {
	endings []string
	typ     string
	heads   []string // one of which the content begins with
}

const openXML = "application/vnd.openxmlformats-officedocument."

var kinds = []kind{
	{[]string{".pdf"}, "application/pdf", []string{"%PDF-"}},
	{[]string{".png"}, "image/png", []string{ImageTypes["image/png"]}},
	{[]string{".jpg", ".jpeg"}, "image/jpeg", []string{ImageTypes["image/jpeg"]}},
	{[]string{".gif"}, "image/gif", []string{ImageTypes["image/gif"]}},
	{[]string{".docx"}, openXML + "wordprocessingml.document", []string{"PK\x03\x04"}},
	{[]string{".xlsx"}, openXML + "spreadsheetml.sheet", []string{"PK\x03\x04"}},
	{[]string{".pptx"}, openXML + "presentationml.presentation", []string{"PK\x03\x04"}},
	{[]string{".odt"}, "application/vnd.oasis.opendocument.text", []string{"PK\x03\x04"}},
	{[]string{".ods"}, "application/vnd.oasis.opendocument.spreadsheet", []string{"PK\x03\x04"}},
	{[]string{".zip"}, "application/zip", []string{"PK\x03\x04", "PK\x05\x06"}},
	{[]string{".doc", ".xls", ".ppt"}, "application/octet-stream", []string{"\xd0\xcf\x11\xe0"}},
	{[]string{".mp3"}, "audio/mpeg", []string{"ID3", "\xff\xfb", "\xff\xf3", "\xff\xf2"}},
	{[]string{".rtf"}, "application/rtf", []string{"{\\rtf"}},
	{[]string{".ics"}, "text/calendar", []string{"BEGIN:VCALENDAR", "\ufeffBEGIN:VCALENDAR"}},
}

// plainEndings are files of text, with their types.
var plainEndings = map[string]string{".txt": "text/plain", ".csv": "text/csv", ".md": "text/markdown",
	".json": "application/json", ".xml": "application/xml", ".vcf": "text/vcard"}

// programs are what mail servers refuse, for what it can do to who opens it.
var programs = []string{".exe", ".com", ".bat", ".cmd", ".scr", ".pif", ".msi", ".vbs", ".vbe", ".js", ".jse", ".jar",
	".ps1", ".hta", ".cpl", ".lnk", ".iso", ".html", ".htm", ".svg"}

// ReadFile reads a file that is to be attached: the media type of what it is. A file that is
// not what its name says, that is empty or too large, or that mail servers refuse, is refused.
func ReadFile(name string, data []byte) (typ string, err error) {
	ending := strings.ToLower(path.Ext(name))
	switch {
	case len(data) == 0:
		return "", fmt.Errorf("it is empty")
	case len(data) > MaxAttachment:
		return "", fmt.Errorf("it has %d MB; an attachment has up to %d MB", (len(data)+1<<20-1)>>20, MaxAttachment>>20)
	case slices.Contains(programs, ending) || bytes.HasPrefix(data, []byte("MZ")) ||
		bytes.HasPrefix(data, []byte("\x7fELF")):
		return "",
			fmt.Errorf(
				"mail servers refuse programs and files of the kind %s; pack it into a PDF or leave it at an address to link to",
				ending)
	}
	is := func(k kind) bool {
		return slices.ContainsFunc(k.heads, func(h string) bool { return bytes.HasPrefix(data, []byte(h)) })
	}
	for _, k := range kinds {
		if slices.Contains(k.endings, ending) {
			if !is(k) {
				return "", fmt.Errorf("its name says %s, but its content is something else", ending)
			}
			return k.typ, nil
		}
	}
	if t, ok := plainEndings[ending]; ok {
		if !utf8.Valid(data) && bytes.IndexByte(data, 0) >= 0 {
			return "", fmt.Errorf("its name says %s, but its content is no text", ending)
		}
		return t, nil
	}
	return "application/octet-stream", nil
}
