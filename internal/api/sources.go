package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"nivot/internal/engine"
	"nivot/internal/store"
)

// sourceLog is how many looks at a source are shown.
const sourceLog = 20

func (s *Server) sourceState(ctx context.Context, sheetID string) (SourceState, error) {
	out := SourceState{Folder: s.e.Folder() != ""}
	if _, err := s.st.Sheet(ctx, sheetID); err != nil {
		return out, err
	}
	c, err := s.st.SheetSource(ctx, sheetID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return out, err
	}
	if err == nil {
		out.Source = &Source{Place: engine.ShownPlace(c.Place), Worksheet: c.Worksheet,
			HeadingRow: c.HeadingRow, EveryMinutes: c.EveryMinutes,
			AtTime: c.AtTime,
			Share:  c.Share, Keep: c.Missing == "keep", Paused: c.Paused}
		out.LookedAt, out.ChangedAt = c.LookedAt, c.ChangedAt
		if c.LastError != "" {
			t := sentence(c.LastError)
			out.LastError, out.OverShare = &t, &c.OverShare
		}
		if out.NextAt, err = s.st.RefreshAt(ctx, c.ID); err != nil {
			return out, err
		}
	}
	events, err := s.st.SourceEvents(ctx, sheetID, sourceLog)
	if err != nil {
		return out, err
	}
	log := make([]struct {
		At     time.Time `json:"at"`
		Change string    `json:"change"`
		Kind   string    `json:"kind"`
		Words  string    `json:"words"`
	}, len(events))
	for i := range events {
		ev := &events[i]
		var d eventDetail
		_ = json.Unmarshal([]byte(ev.Detail), &d)
		log[i].At, log[i].Kind = ev.At, ev.Kind
		switch ev.Kind {
		case store.EventRefreshed:
			log[i].Change = fmt.Sprint(ev.ID)
			log[i].Words = fmt.Sprintf("%d new, %d changed, %d gone", d.New, d.Changed, d.Gone)
		case store.EventLooked:
			log[i].Words = "nothing new"
		default:
			log[i].Words = sentence(d.Problem)
		}
	}
	out.Log = &log
	return out, nil
}

// GetSource implements StrictServerInterface.
func (s *Server) GetSource(ctx context.Context, r GetSourceRequestObject) (GetSourceResponseObject, error) {
	out, err := s.sourceState(ctx, r.Sheet)
	return GetSource200JSONResponse(out), err
}

// SaveSource implements StrictServerInterface.
func (s *Server) SaveSource(ctx context.Context, r SaveSourceRequestObject) (SaveSourceResponseObject, error) {
	b := r.Body
	c := &store.Source{SheetID: r.Sheet, Place: b.Place, Worksheet: b.Worksheet, HeadingRow: b.HeadingRow,
		EveryMinutes: b.EveryMinutes,
		AtTime:       b.AtTime, Share: b.Share, Missing: "gone", Paused: b.Paused}
	if b.Keep {
		c.Missing = "keep"
	}
	if err := s.e.SaveSource(ctx, c, person(ctx).Name); err != nil {
		return nil, err
	}
	out, err := s.sourceState(ctx, r.Sheet)
	return SaveSource200JSONResponse(out), err
}

// DropSource implements StrictServerInterface.
func (s *Server) DropSource(ctx context.Context, r DropSourceRequestObject) (DropSourceResponseObject, error) {
	return DropSource204Response{}, s.e.DropSource(ctx, r.Sheet, person(ctx).Name)
}

// RefreshSource implements StrictServerInterface.
func (s *Server) RefreshSource(ctx context.Context,
	r RefreshSourceRequestObject) (RefreshSourceResponseObject, error) {
	if err := s.e.RefreshNow(ctx, r.Sheet, is(r.Body.Overrule)); err != nil {
		return nil, err
	}
	out, err := s.sourceState(ctx, r.Sheet)
	return RefreshSource200JSONResponse(out), err
}

// GetSourceSetting implements StrictServerInterface.
func (s *Server) GetSourceSetting(ctx context.Context,
	_ GetSourceSettingRequestObject) (GetSourceSettingResponseObject, error) {
	out := GetSourceSetting200JSONResponse{Folder: s.e.Folder()}
	_, err := s.st.Setting(ctx, engine.SettingFetch, &out.Inside)
	return out, err
}

// SetSourceSetting implements StrictServerInterface.
func (s *Server) SetSourceSetting(ctx context.Context,
	r SetSourceSettingRequestObject) (SetSourceSettingResponseObject, error) {
	err := s.st.Tx(ctx, func(tx *store.Store) error {
		if err := tx.SetSetting(ctx, engine.SettingFetch, r.Body.Inside); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: s.e.Now(), Actor: person(ctx).Name, Kind: store.EventSettingSaved,
			Detail: store.Detail(map[string]any{"sourcesInside": r.Body.Inside})})
	})
	return SetSourceSetting200JSONResponse{Folder: s.e.Folder(), Inside: r.Body.Inside}, err
}

// sourceNeed is a source that waits for somebody.
type sourceNeed = struct {
	Place   string `json:"place"`
	Sheet   string `json:"sheet"`
	SheetId string `json:"sheetId"`
	Text    string `json:"text"`
}

// sourceNeeds lists the sources whose last refresh changed nothing.
func (s *Server) sourceNeeds(ctx context.Context, sheets []store.Sheet) ([]sourceNeed, error) {
	list, err := s.st.Sources(ctx)
	out := []sourceNeed{}
	for _, c := range list {
		if c.LastError == "" || c.Paused {
			continue
		}
		for _, sh := range sheets {
			if sh.ID == c.SheetID {
				out = append(out, sourceNeed{SheetId: sh.ID, Sheet: sh.Name, Text: sentence(c.LastError),
					Place: engine.ShownPlace(c.Place)})
			}
		}
	}
	return out, err
}
