package api

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"nivot/internal/core/sheet"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// tokenStart is what every token begins with, so that one that has got out can
// be recognised.
const tokenStart = "nivot_"

// bearer gives the token that a request carries (RFC 6750 2.1).
func bearer(r *http.Request) (string, bool) {
	kind, secret, ok := strings.Cut(r.Header.Get("Authorization"), " ")
	return strings.TrimSpace(secret), ok && strings.EqualFold(kind, "Bearer")
}

// programOf finds who asks by a token: the token's person with no more than
// the token's role. A token lets a program at the rows of its sheets, and at
// nothing else.
func (s *Server) programOf(c *echo.Context, operation, secret string) (*store.Person, error) {
	ctx := c.Request().Context()
	if !strings.HasPrefix(secret, tokenStart) {
		return nil, problem(http.StatusUnauthorized, "The token is not known.")
	}
	t, err := s.st.UseToken(ctx, secret, s.Wall().UTC())
	if err == store.ErrNotFound {
		return nil, problem(http.StatusUnauthorized, "The token is not known, or has been revoked.")
	}
	if err != nil {
		return nil, err
	}
	p, err := s.st.Person(ctx, t.PersonID)
	if err == store.ErrNotFound || err == nil && !t.Works(p, s.Wall()) {
		return nil, problem(http.StatusUnauthorized,
			"The token has ended with what its person may do, or with their password. They can make a new one.")
	}
	if err != nil {
		return nil, err
	}
	if !s.forPrograms[operation] {
		return nil, problem(http.StatusForbidden, "A token lets a program at the rows of a sheet, and at nothing else.")
	}
	if t.SheetID != "" && c.Param("sheet") != t.SheetID {
		return nil, problem(http.StatusNotFound, "It is not there, or not any more.")
	}
	if id := c.Param("sheet"); id != "" {
		rec, err := s.st.Sheet(ctx, id)
		if err == nil && rec.PutAwayAt != nil {
			return nil, problem(http.StatusNotFound, "The sheet has been put away.")
		}
	}
	program := *p
	if p.Role.May(t.Role) {
		program.Role = t.Role
	}
	program.Name = fmt.Sprintf("%s (%s)", t.Name, p.Name)
	if r := []rune(program.Name); len(r) > 120 {
		program.Name = string(r[:120])
	}
	return &program, nil
}

// answered gives a request with an idempotency key that was used before the
// answer that it was given then
// (draft-ietf-httpapi-idempotency-key-header). Only operations that change rows
// take a key.
func (s *Server) answered(operation string) echo.MiddlewareFunc {
	if !s.keyed[operation] {
		return func(next echo.HandlerFunc) echo.HandlerFunc { return next }
	}
	return s.answeredOnce
}

func (s *Server) answeredOnce(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		name := r.Header.Get("Idempotency-Key")
		if name == "" || person(r.Context()) == nil {
			return next(c)
		}
		body, err := io.ReadAll(io.LimitReader(r.Body, maxAnswered+1))
		if err != nil || len(body) > maxAnswered {
			return problem(http.StatusRequestEntityTooLarge, "The request is too large.")
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		key := sha256.Sum256([]byte(person(r.Context()).ID + "\x00" + name))
		request := sha256.Sum256([]byte(r.Method + "\x00" + r.URL.Path + "\x00" + r.URL.RawQuery + "\x00" + string(body)))
		once := store.Once{Key: key[:], Request: request[:]}
		old, err := s.st.KeptAnswer(r.Context(), once)
		if err != nil {
			return err
		}
		if old != nil {
			c.Response().Header().Set("Idempotency-Replayed", "true")
			if old.Status == http.StatusNoContent {
				c.Response().WriteHeader(old.Status)
				return nil
			}
			return c.Blob(old.Status, "application/json", []byte(old.Body))
		}
		// The key is taken in the transaction of the change itself: where it has
		// been done and its answer was lost, the change gives what it came to.
		c.SetRequest(r.WithContext(engine.WithOnce(r.Context(), once)))
		w := &keeper{ResponseWriter: c.Response(), status: http.StatusOK}
		c.SetResponse(w)
		err = next(c)
		c.SetResponse(w.ResponseWriter)
		if err != nil || w.status >= 400 {
			return err
		}
		if err := s.st.KeepAnswer(context.WithoutCancel(r.Context()), once, w.status, w.body.String()); err != nil {
			slog.Warn("an answer could not be kept; a second request makes it anew", "error", err)
		}
		return nil
	}
}

// maxAnswered bounds the body of a request with an idempotency key.
const maxAnswered = 16 << 20

// keeper keeps what is answered.
type keeper struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

// WriteHeader implements http.ResponseWriter.
func (k *keeper) WriteHeader(status int) {
	k.status = status
	k.ResponseWriter.WriteHeader(status)
}

// Write implements http.ResponseWriter.
func (k *keeper) Write(b []byte) (int, error) {
	k.body.Write(b)
	return k.ResponseWriter.Write(b)
}

// Unwrap lets the response's controls through.
func (k *keeper) Unwrap() http.ResponseWriter { return k.ResponseWriter }

// toToken writes a token of a person, who is nil where they are there no more.
func (s *Server) toToken(t *store.Token, p *store.Person, sheets map[string]string) Token {
	out := Token{Id: t.ID, Name: t.Name, Sheet: sheets[t.SheetID], Role: Role(t.Role), CreatedAt: t.CreatedAt,
		UsedAt: t.UsedAt, ExpiresAt: t.ExpiresAt, State: Ended}
	if p != nil {
		out.Person = p.Name
	}
	switch {
	case t.RevokedAt != nil:
		out.State = Revoked
	case t.ExpiresAt != nil && !t.ExpiresAt.After(s.Wall()):
		out.State = Expired
	case p != nil && t.Works(p, s.Wall()):
		out.State = Works
	}
	return out
}

// ListTokens implements StrictServerInterface.
func (s *Server) ListTokens(ctx context.Context, _ ListTokensRequestObject) (ListTokensResponseObject, error) {
	who := person(ctx).ID
	if person(ctx).Role.May(store.Administrator) {
		who = ""
	}
	list, err := s.st.Tokens(ctx, who)
	if err != nil {
		return nil, err
	}
	people, err := s.st.People(ctx)
	if err != nil {
		return nil, err
	}
	byID := map[string]*store.Person{}
	for i := range people {
		byID[people[i].ID] = &people[i]
	}
	sheets, err := s.sheetNames(ctx)
	out := ListTokens200JSONResponse{}
	for i := range list {
		out = append(out, s.toToken(&list[i], byID[list[i].PersonID], sheets))
	}
	return out, err
}

// tokenDays is after how many days a token expires, where nobody says otherwise.
const tokenDays = 365

// AddToken implements StrictServerInterface.
func (s *Server) AddToken(ctx context.Context, r AddTokenRequestObject) (AddTokenResponseObject, error) {
	p := person(ctx)
	role := store.Role(r.Body.Role)
	if !p.Role.May(role) || role == store.Administrator {
		return nil, &engine.Refusal{Field: "/role",
			Message: "a token may do no more than its person, and at most what a coordinator may"}
	}
	b := make([]byte, 25)
	_, _ = rand.Read(b)
	secret := tokenStart + strings.ToLower(base32.StdEncoding.EncodeToString(b))
	t := &store.Token{ID: store.NewID(), TokenHash: store.HashToken(secret), Name: strings.TrimSpace(r.Body.Name),
		PersonID: p.ID, Role: role, Epoch: p.Epoch, CreatedAt: s.Wall().UTC()}
	days := tokenDays
	if r.Body.Days != nil {
		days = *r.Body.Days
	}
	t.ExpiresAt = ptr(t.CreatedAt.AddDate(0, 0, days))
	if t.Name == "" {
		return nil, &engine.Refusal{Field: "/name", Message: "a token needs a name, so that one knows what uses it"}
	}
	if r.Body.Sheet != nil && *r.Body.Sheet != "" {
		if _, err := s.st.Sheet(ctx, *r.Body.Sheet); err != nil {
			return nil, err
		}
		t.SheetID = *r.Body.Sheet
	}
	err := s.st.Tx(ctx, func(tx *store.Store) error {
		if err := tx.SaveToken(ctx, t); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: s.e.Now(), Actor: p.Name, Kind: store.EventTokenSaved,
			Detail: store.Detail(map[string]any{"token": t.ID, "name": t.Name, "role": t.Role, "sheet": t.SheetID,
				"expires": t.ExpiresAt})})
	})
	if err != nil {
		return nil, err
	}
	sheets, err := s.sheetNames(ctx)
	return AddToken201JSONResponse{Secret: secret, Token: s.toToken(t, p, sheets)}, err
}

// RevokeToken implements StrictServerInterface.
func (s *Server) RevokeToken(ctx context.Context, r RevokeTokenRequestObject) (RevokeTokenResponseObject, error) {
	t, err := s.st.Token(ctx, r.Token)
	if err != nil {
		return nil, err
	}
	if p := person(ctx); t.PersonID != p.ID && !p.Role.May(store.Administrator) {
		return nil, store.ErrNotFound
	}
	if t.RevokedAt != nil {
		return RevokeToken204Response{}, nil
	}
	now := s.Wall().UTC()
	t.RevokedAt = &now
	return RevokeToken204Response{}, s.st.Tx(ctx, func(tx *store.Store) error {
		if err := tx.SaveToken(ctx, t); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: s.e.Now(), Actor: person(ctx).Name, Kind: store.EventTokenSaved,
			Detail: store.Detail(map[string]any{"token": t.ID, "name": t.Name, "revoked": true})})
	})
}

// plain writes rows for programs.
func (s *Server) plain(ctx context.Context, core *sheet.Sheet, recs []store.Row) ([]PlainRow, error) {
	computed, err := s.e.Computed(ctx, core)
	if err != nil {
		return nil, err
	}
	out := make([]PlainRow, len(recs))
	for i := range recs {
		row, err := recs[i].Core(core)
		if err != nil {
			return nil, err
		}
		row = computed(row)
		out[i] = PlainRow{Id: store.RowID(recs[i].ID), Gone: recs[i].Gone, Cells: map[string]string{}}
		if key, ok := core.Column(core.Key); ok {
			out[i].Key = core.Show(key, row.Cell(key))
		}
		for k := range core.Columns {
			c := &core.Columns[k]
			out[i].Cells[c.Name] = core.Input(c, row.Cell(c))
		}
	}
	return out, nil
}

// ListRows implements StrictServerInterface.
func (s *Server) ListRows(ctx context.Context, r ListRowsRequestObject) (ListRowsResponseObject, error) {
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	var after int64
	limit := 200
	if r.Params.After != nil && *r.Params.After != "" {
		if after, err = parseID(*r.Params.After); err != nil {
			return nil, err
		}
	}
	if r.Params.Limit != nil {
		limit = *r.Params.Limit
	}
	recs, err := s.st.RowsAfter(ctx, r.Sheet, after, limit)
	if err != nil {
		return nil, err
	}
	out := ListRows200JSONResponse{}
	if out.Rows, err = s.plain(ctx, core, recs); err != nil {
		return nil, err
	}
	if len(recs) == limit {
		out.Next = store.RowID(recs[len(recs)-1].ID)
	}
	return out, nil
}

// byKey gives the row with a key as programs see it.
func (s *Server) byKey(ctx context.Context, sheetID string, rec *store.Row) (PlainRow, error) {
	core, err := s.coreSheet(ctx, sheetID)
	if err != nil {
		return PlainRow{}, err
	}
	rows, err := s.plain(ctx, core, []store.Row{*rec})
	if err != nil {
		return PlainRow{}, err
	}
	return rows[0], nil
}

// GetByKey implements StrictServerInterface.
func (s *Server) GetByKey(ctx context.Context, r GetByKeyRequestObject) (GetByKeyResponseObject, error) {
	rec, err := s.e.FindByKey(ctx, r.Sheet, r.Key)
	if err != nil {
		return nil, err
	}
	out, err := s.byKey(ctx, r.Sheet, rec)
	return GetByKey200JSONResponse(out), err
}

// PutByKey implements StrictServerInterface.
func (s *Server) PutByKey(ctx context.Context, r PutByKeyRequestObject) (PutByKeyResponseObject, error) {
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	edits, err := toEdits(core, r.Body.Cells, r.Body.Expected)
	if err != nil {
		return nil, err
	}
	id, err := s.e.PutRow(ctx, r.Sheet, r.Key, edits, author(ctx))
	if err != nil {
		return nil, err
	}
	rec, err := s.st.Row(ctx, id)
	if err != nil {
		return nil, err
	}
	out, err := s.byKey(ctx, r.Sheet, rec)
	return PutByKey200JSONResponse(out), err
}

// ChangeByKey implements StrictServerInterface.
func (s *Server) ChangeByKey(ctx context.Context, r ChangeByKeyRequestObject) (ChangeByKeyResponseObject, error) {
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	edits, err := toEdits(core, r.Body.Cells, r.Body.Expected)
	if err != nil {
		return nil, err
	}
	id, err := s.e.EditByKey(ctx, r.Sheet, r.Key, edits, author(ctx))
	if err != nil {
		return nil, err
	}
	rec, err := s.st.Row(ctx, id)
	if err != nil {
		return nil, err
	}
	out, err := s.byKey(ctx, r.Sheet, rec)
	return ChangeByKey200JSONResponse(out), err
}

// DeleteByKey implements StrictServerInterface.
func (s *Server) DeleteByKey(ctx context.Context, r DeleteByKeyRequestObject) (DeleteByKeyResponseObject, error) {
	return DeleteByKey204Response{}, s.e.DeleteByKey(ctx, r.Sheet, r.Key, author(ctx))
}
