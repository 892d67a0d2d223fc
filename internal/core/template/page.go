package template

import (
	"html"
	"strings"
)

// Palette is the colours that a letter's words may have without thought for dark mail
// readers: each with the one that takes its place there.
var Palette = []struct{ Name, Light, Dark string }{
	{"grey", "#5a5f69", "#b3b8c2"}, {"juniper", "#1e5557", "#7fc4c6"}, {"amber", "#9a6400", "#e8b44a"},
	{"brick", "#a63a2b", "#ef9384"}, {"plum", "#6a3d6e", "#d3a3d7"}, {"blue", "#24539b", "#93b8f0"},
}

// dark gives the class of a colour of the palette, as an attribute; "" for another.
func dark(colour string) string {
	for _, p := range Palette {
		if strings.EqualFold(p.Light, colour) {
			return `class="nv-` + p.Name + `" `
		}
	}
	return ""
}

// The page is what common email programs show alike: tables for its layout, 600 pixels wide,
// all styles inline, nothing remote. What stands in its head is for dark mail readers alone, and
// for those on telephones; a reader that drops it shows dark words on white.
const (
	pageStyle = `@media (prefers-color-scheme:dark){body,.nv-page{background:#1b1d21!important}.nv-text{color:#e8e6e1!important}.nv-line{border-color:#4a4e57!important}` +
		`.nv-soft{color:#b3b8c2!important}.nv-link{color:#7fc4c6!important}`
	pageFoot = `</td></tr></table></td></tr></table></body></html>`
)

var pageHead = func() string {
	var b strings.Builder
	b.WriteString(`<head><meta charset="utf-8"><meta name="viewport" content="width=device-width,initial-scale=1">` +
		`<meta name="color-scheme" content="light dark"><meta name="supported-color-schemes" content="light dark"><style>` +
		pageStyle)
	for _, p := range Palette {
		b.WriteString(`.nv-` + p.Name + `{color:` + p.Dark + `!important}`)
	}
	b.WriteString(`}</style></head>`)
	return b.String()
}()

// head writes the page up to the letter's first block.
func (w *writer) head(d *doc, preheader string) {
	dir := "ltr"
	if w.rtl {
		dir = "rtl"
	}
	tag := "en"
	if d.locale != nil {
		tag = html.EscapeString(d.locale.Tag)
	}
	w.html.WriteString(`<!DOCTYPE html><html lang="` + tag + `" dir="` + dir + `">` + pageHead +
		`<body class="nv-page" style="margin:0;padding:0;background:#ffffff">`)
	if preheader != "" {
		// The list of a mailbox shows it behind the subject; the letter does not. What
		// follows keeps the letter's own beginning out of that list.
		w.html.WriteString(`<div style="display:none;max-height:0;overflow:hidden;mso-hide:all">` +
			escape(preheader) + strings.Repeat("&#847;&zwnj;&nbsp;", 20) + `</div>`)
	}
	align := d.start()
	w.html.WriteString(
		`<table role="presentation" class="nv-page" width="100%" cellpadding="0" cellspacing="0" border="0" style="background:#ffffff"><tr><td align="` + align + `" style="padding:24px 20px">` +
			`<table role="presentation" width="600" cellpadding="0" cellspacing="0" border="0" style="width:100%;max-width:600px"><tr>` +
			`<td class="nv-text" dir="` + dir + `" align="` + align +
			`" style="font-family:Georgia,'Times New Roman',serif;font-size:16px;line-height:25px;color:#20242c;text-align:` +
			align + `;overflow-wrap:break-word">`)
	if w.c.Note != "" {
		w.html.WriteString(
			`<p class="nv-soft nv-line" style="margin:0 0 18px 0;padding:0 0 10px 0;border-bottom:1px solid #dcd7cb;font-size:14px;color:#5a5f69">` + escape(w.c.Note) + `</p>`)
		w.text.WriteString(oneLine(w.c.Note) + "\n\n")
	}
}
