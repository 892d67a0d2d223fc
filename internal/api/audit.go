package api

import (
	"bytes"
	"context"
	"encoding/csv"
	"strconv"
	"time"

	"nivot/internal/store"
)

// auditPage is how many lines of the audit one page shows, and maxAuditCSV how many its CSV
// has at the most.
const (
	auditPage   = 100
	maxAuditCSV = 200_000
)

func auditFilter(act *AuditAct, person, network *string, since *time.Time) (f store.AuditFilter) {
	if act != nil {
		f.Act = string(*act)
	}
	if person != nil {
		f.ActorID = *person
	}
	if network != nil {
		f.Network = *network
	}
	if since != nil {
		f.Since = *since
	}
	return f
}

// ListAudit implements StrictServerInterface.
func (s *Server) ListAudit(ctx context.Context, r ListAuditRequestObject) (ListAuditResponseObject, error) {
	f := auditFilter(r.Params.Act, r.Params.Person, r.Params.Network, r.Params.Since)
	if r.Params.Before != nil && *r.Params.Before != "" {
		var err error
		if f.Before, err = parseID(*r.Params.Before); err != nil {
			return nil, err
		}
	}
	list, err := s.st.Audit(ctx, f, auditPage)
	if err != nil {
		return nil, err
	}
	out := ListAudit200JSONResponse{Lines: []AuditLine{}}
	for _, a := range list {
		out.Lines = append(out.Lines, AuditLine{Id: strconv.FormatInt(a.ID, 10), At: a.At, Actor: a.Actor,
			ActorId: a.ActorID, Network: a.Network,
			Act: AuditAct(a.Act), Subject: a.Subject, Was: a.Was, Became: a.Became})
	}
	if len(list) == auditPage {
		out.Next = strconv.FormatInt(list[len(list)-1].ID, 10)
	}
	return out, nil
}

// ExportAudit implements StrictServerInterface.
func (s *Server) ExportAudit(ctx context.Context, r ExportAuditRequestObject) (ExportAuditResponseObject, error) {
	f := auditFilter(r.Params.Act, r.Params.Person, r.Params.Network, r.Params.Since)
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.UseCRLF = true // RFC 4180
	_ = w.Write([]string{"When", "Who", "Id", "From", "Act", "Of", "Before", "After"})
	for n := 0; n < maxAuditCSV; {
		list, err := s.st.Audit(ctx, f, 1000)
		if err != nil {
			return nil, err
		}
		for _, a := range list {
			rec := []string{a.At.In(s.Zone).Format(time.RFC3339), a.Actor, a.ActorID, a.Network, a.Act, a.Subject, a.Was,
				a.Became}
			for i := range rec {
				rec[i] = neutral(rec[i])
			}
			_ = w.Write(rec)
		}
		if n += len(list); len(list) < 1000 {
			break
		}
		f.Before = list[len(list)-1].ID
	}
	w.Flush()
	s.audit(ctx, store.Audited{Act: store.ActExport, Subject: "the audit"})
	return ExportAudit200TextcsvResponse{Body: &b, ContentLength: int64(b.Len())}, w.Error()
}
