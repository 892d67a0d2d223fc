package api

import (
	"bytes"
	"context"
	"fmt"
	"mime/multipart"
	"path"
	"strings"

	"nivot/internal/core/template"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// KeepFile implements StrictServerInterface: it keeps a file by its content, once it is seen
// to be what it is said to be.
func (s *Server) KeepFile(ctx context.Context, r KeepFileRequestObject) (KeepFileResponseObject, error) {
	f, name, err := readUpload(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	out := KeptFile{Name: name, Size: len(f.file)}
	refuse := func(err error) error {
		return &engine.Refusal{Field: "/file", Message: fmt.Sprintf("“%s” cannot be taken: %s", name, err)}
	}
	if f.values["image"] == "true" {
		typ, w, h, err := template.ReadImage(f.file)
		if err != nil {
			return nil, refuse(err)
		}
		out.Type, out.Width, out.Height = typ, &w, &h
	} else if out.Type, err = template.ReadFile(name, f.file); err != nil {
		return nil, refuse(err)
	}
	out.File = template.ContentID(f.file)
	err = s.st.KeepFile(ctx, &store.File{ID: store.FileID(out.File), Type: out.Type, Size: int64(len(f.file)),
		Data: f.file, CreatedAt: s.e.Now()})
	return KeepFile201JSONResponse(out), err
}

// readUpload reads a form with a file, and gives the file's name without its folders.
func readUpload(ctx context.Context, r *multipart.Reader) (*form, string, error) {
	f, err := readForm(ctx, r)
	if err != nil {
		return nil, "", err
	}
	name := path.Base(strings.ReplaceAll(strings.TrimSpace(f.name), `\`, "/"))
	if f.file == nil || name == "." || name == "/" {
		return nil, "", problem(422, "The form has no file with a name.")
	}
	return f, name, nil
}

// GetFile implements StrictServerInterface. It comes as something to be saved, never as
// something that a browser would run.
func (s *Server) GetFile(ctx context.Context, r GetFileRequestObject) (GetFileResponseObject, error) {
	f, err := s.st.File(ctx, r.File)
	if err != nil {
		return nil, err
	}
	return GetFile200ApplicationoctetStreamResponse{Body: bytes.NewReader(f.Data), ContentLength: f.Size}, nil
}
