package api

import (
	"bytes"
	"context"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"nivot/internal/exchange"
	"nivot/internal/store"
)

// feedPath is where the feeds of what is coming stand: their addresses are
// secrets, as calendar programs do not sign in.
const feedPath = "/feeds/"

func toFeed(f *store.Feed, works bool) Feed {
	out := Feed{Id: f.ID, By: f.MadeBy, At: f.MadeAt, Works: works}
	if f.RuleID != "" {
		out.Rule = &f.RuleID
	}
	return out
}

// ListFeeds implements StrictServerInterface.
func (s *Server) ListFeeds(ctx context.Context, r ListFeedsRequestObject) (ListFeedsResponseObject, error) {
	feeds, err := s.st.Feeds(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	people, err := s.st.People(ctx)
	if err != nil {
		return nil, err
	}
	makers := map[string]*store.Person{}
	for i := range people {
		makers[people[i].ID] = &people[i]
	}
	out := ListFeeds200JSONResponse{}
	for i := range feeds {
		maker := makers[feeds[i].PersonID]
		out = append(out, toFeed(&feeds[i], maker != nil && feeds[i].Works(maker)))
	}
	return out, nil
}

// AddFeed implements StrictServerInterface.
func (s *Server) AddFeed(ctx context.Context, r AddFeedRequestObject) (AddFeedResponseObject, error) {
	if _, err := s.st.Sheet(ctx, r.Sheet); err != nil {
		return nil, err
	}
	f := &store.Feed{ID: store.NewID(), SheetID: r.Sheet, MadeBy: person(ctx).Name, PersonID: person(ctx).ID,
		Epoch: person(ctx).Epoch, MadeAt: s.Wall().UTC()}
	if r.Body.Rule != nil && *r.Body.Rule != "" {
		rec, err := s.ruleOf(ctx, r.Sheet, *r.Body.Rule)
		if err != nil {
			return nil, err
		}
		f.RuleID = rec.ID
	}
	secret := store.NewToken()
	f.TokenHash = store.HashToken(secret)
	if err := s.st.AddFeed(ctx, f); err != nil {
		return nil, err
	}
	s.audit(ctx, store.Audited{Act: store.ActExport, Subject: "a calendar feed",
		Became: store.Detail(map[string]any{"sheet": f.SheetID, "rule": f.RuleID, "feed": f.ID})})
	return AddFeed201JSONResponse{Feed: toFeed(f, true), Address: s.PublicURL + feedPath + secret + ".ics"}, nil
}

// RevokeFeed implements StrictServerInterface.
func (s *Server) RevokeFeed(ctx context.Context, r RevokeFeedRequestObject) (RevokeFeedResponseObject, error) {
	if err := s.st.RemoveFeed(ctx, r.Sheet, r.Feed); err != nil {
		return nil, err
	}
	s.audit(ctx, store.Audited{Act: store.ActExport, Subject: "a calendar feed",
		Became: store.Detail(map[string]any{"feed": r.Feed, "revoked": true})})
	return RevokeFeed204Response{}, nil
}

// showFeed answers who has a feed's secret address with what is coming.
func (s *Server) showFeed(c *echo.Context) error {
	ctx := c.Request().Context()
	secret, ok := strings.CutSuffix(c.Param("secret"), ".ics")
	if !ok {
		return c.NoContent(http.StatusNotFound)
	}
	f, err := s.st.FeedOf(ctx, secret)
	if errors.Is(err, store.ErrNotFound) {
		return c.NoContent(http.StatusNotFound)
	}
	if err != nil {
		return err
	}
	maker, err := s.st.Person(ctx, f.PersonID)
	if errors.Is(err, store.ErrNotFound) || err == nil && !f.Works(maker) {
		return c.NoContent(http.StatusGone)
	}
	if err != nil {
		return err
	}
	rec, err := s.st.Sheet(ctx, f.SheetID)
	if errors.Is(err, store.ErrNotFound) {
		return c.NoContent(http.StatusNotFound)
	}
	if err != nil {
		return err
	}
	if rec.PutAwayAt != nil {
		return c.NoContent(http.StatusGone)
	}
	coming, err := s.e.Forecast(ctx, f.SheetID)
	if err != nil {
		return err
	}
	rules, err := s.ruleNames(ctx, f.SheetID)
	if err != nil {
		return err
	}
	name, entries := rec.Name, []exchange.FeedEntry{}
	if f.RuleID != "" {
		name += ", " + rules[f.RuleID].Name
	}
	for i := range coming.Coming {
		x := &coming.Coming[i]
		if f.RuleID != "" && x.Rule != f.RuleID {
			continue
		}
		e := exchange.FeedEntry{ID: x.Occasion.String(), At: x.At, Row: x.Row, Rule: rules[x.Rule].Name,
			To: strings.Join(x.To, ", "), Subject: x.Subject,
			Link: s.PublicURL + "/sheets/" + f.SheetID}
		if x.Rows > 0 {
			e.Row = plural(x.Rows, "row")
		} else {
			e.Link += "?row=" + url.QueryEscape(x.RowID)
		}
		if x.Incomplete {
			e.Fault = x.Reason
		}
		entries = append(entries, e)
	}
	host := "nivot.invalid"
	if u, err := url.Parse(s.PublicURL); err == nil && u.Hostname() != "" {
		host = u.Hostname()
	}
	var b bytes.Buffer
	if err := exchange.WriteFeed(&b, name, host, s.e.Now().Truncate(time.Second), entries); err != nil {
		return err
	}
	c.Response().Header().Set("Cache-Control", "private, max-age=300")
	return c.Blob(http.StatusOK, "text/calendar; charset=utf-8", b.Bytes())
}
