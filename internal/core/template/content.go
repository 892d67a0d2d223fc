package template

import (
	"archive/zip"
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"image"
	_ "image/gif" // the kinds of pictures that are read
	_ "image/jpeg"
	_ "image/png"
	"path"
	"slices"
	"strings"
	"unicode"
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

// programs are the endings of what mail servers refuse, for what it can do to who opens it: programs and parts of them,
// scripts, pages with scripts, documents with macros, shortcuts and settings, images of disks, and packed applications.
var programs = func() map[string]bool {
	out := map[string]bool{}
	for _, e := range strings.Fields(`
		exe com bat cmd scr pif msi msp mst dll drv sys ocx cpl efi gadget application
		vbs vbe vb js jse mjs cjs ws wsf wsh wsc sct ps1 ps1xml ps2 psc1 psd1 psm1 hta jar class jnlp py pyc pyw pl rb sh bash
		csh ksh zsh command tcl ahk applescript scpt action workflow
		html htm shtml xhtml xht xhtm mht mhtml svg svgz xsl xslt xbl swf chm hlp
		docm dotm xlsm xltm xlam xll pptm potm ppam ppsm sldm accde accda mdb mda mde ade adp one onepkg slk iqy wll
		lnk url webloc desktop reg inf scf library-ms search-ms searchconnector-ms settingcontent-ms theme themepack
		diagcab msc job rdp website
		iso img vhd vhdx vmdk vdi dmg udf wim cab
		appx appxbundle msix msixbundle appinstaller apk aab ipa deb rpm pkg mpkg snap flatpak run bin elf so dylib xpi crx
		osx app nupkg vsix grp prg`) {
		out["."+e] = true
	}
	return out
}()

// programHeads are what the content of such files begins with, whatever they are called.
var programHeads = []string{"MZ", "\x7fELF", "#!", "\xca\xfe\xba\xbe", "\xfe\xed\xfa\xce", "\xfe\xed\xfa\xcf",
	"\xce\xfa\xed\xfe", "\xcf\xfa\xed\xfe", "\x00asm", "dex\n", "ITSF", "MSCF", "vhdxfile", "conectix",
	"L\x00\x00\x00\x01\x14\x02\x00", "KDMV",
	"[InternetShortcut]", "Windows Registry Editor", "REGEDIT4", "!<arch>\n", "\xed\xab\xee\xdb"}

// endingOf gives the ending of a file's name, in small letters: ".pdf", or "" for none. What systems leave out when
// they open a file counts as little here: dots and spaces at its end, and what stands behind a colon.
func endingOf(name string) string {
	name, _, _ = strings.Cut(name, ":")
	name = strings.TrimRightFunc(name, func(r rune) bool {
		return r == '.' || unicode.IsSpace(r) || unicode.IsControl(r) || unicode.Is(unicode.Cf, r)
	})
	return strings.ToLower(strings.Map(func(r rune) rune { // a mark of direction hides what the ending is
		if unicode.Is(unicode.Cf, r) {
			return -1
		}
		return r
	}, path.Ext(name)))
}

// isProgram reports whether a file is one that mail servers refuse, by its name or by its content.
func isProgram(name string, data []byte) bool {
	_, behind, _ := strings.Cut(name, ":")
	if programs[endingOf(name)] || programs[endingOf(behind)] {
		return true
	}
	for _, h := range programHeads {
		if bytes.HasPrefix(data, []byte(h)) {
			return true
		}
	}
	const sector = 0x8000 // where an image of a disk says that it is one (ISO 9660; ECMA-167)
	if len(data) > sector+6 {
		if slices.Contains([]string{"CD001", "BEA01", "NSR02", "NSR03"}, string(data[sector+1:sector+6])) {
			return true
		}
	}
	return bytes.HasPrefix(data, []byte("PK\x03\x04")) && packsProgram(data) || isPage(name, data)
}

// packsProgram reports whether an archive, or a document that is one, holds macros or is an application.
func packsProgram(data []byte) bool {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return false
	}
	for _, f := range z.File {
		name := strings.ToLower(strings.ReplaceAll(f.Name, `\`, "/"))
		switch base := path.Base(name); {
		case programs[endingOf(base)] && base != "thumbs.db" && !strings.HasSuffix(name, ".bin"),
			base == "vbaproject.bin", base == "androidmanifest.xml", base == "appxmanifest.xml", base == "classes.dex",
			name == "meta-inf/manifest.mf":
			return true
		}
	}
	return false
}

// isPage reports whether a file that a browser would open is a page, which may hold scripts.
func isPage(name string, data []byte) bool {
	head := bytes.ToLower(data[:min(len(data), 4096)])
	switch ending := endingOf(name); {
	case ending == ".xml":
		return bytes.Contains(head, []byte("www.w3.org/1999/xhtml")) || bytes.Contains(head, []byte("www.w3.org/2000/svg")) ||
			bytes.Contains(head, []byte("<?xml-stylesheet"))
	case plainEndings[ending] != "",
		slices.ContainsFunc(kinds, func(k kind) bool { return slices.Contains(k.endings, ending) }):
		return false
	}
	text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\ufeff")), " \t\r\n\f")
	begins := []string{"<!doctype html", "<html", "<head", "<body", "<script", "<iframe", "<svg", "mime-version:"}
	return slices.ContainsFunc(begins, func(h string) bool { return bytes.HasPrefix(text, []byte(h)) }) ||
		bytes.Contains(head, []byte("<script"))
}

// ReadFile reads a file that is to be attached: the media type of what it is. A file that is
// not what its name says, that is empty or too large, or that mail servers refuse, is refused.
func ReadFile(name string, data []byte) (typ string, err error) {
	ending := endingOf(name)
	switch {
	case len(data) == 0:
		return "", fmt.Errorf("it is empty")
	case len(data) > MaxAttachment:
		return "", fmt.Errorf("it has %d MB; an attachment has up to %d MB", (len(data)+1<<20-1)>>20, MaxAttachment>>20)
	case isProgram(name, data):
		return "",
			fmt.Errorf(
				"mail servers refuse programs, pages, macros and files of the kind %s; make a PDF of it, or leave it at an "+
					"address to link to", cmp.Or(ending, "of a program"))
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
