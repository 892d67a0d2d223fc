package api

import (
	"context"
	"encoding/json"
	"time"

	"nivot/internal/engine"
	"nivot/internal/store"
)

// atOnce is how many rows are brought in while the request waits; more go on
// by themselves.
const atOnce = 3000

func (s *Server) startImport(ctx context.Context, sheetID string, in engine.Incoming, o engine.ImportOptions,
	who engine.Author, failed func(context.Context)) (Job, error) {
	done := uploadOf(ctx).hold() // its rows stay in memory
	j, err := s.e.Start(ctx, sheetID, "import", who.Name, len(in.Rows),
		func(ctx context.Context, p engine.Progress) (any, error) {
			o.Progress = p
			res, err := s.e.Import(ctx, sheetID, in, o, who)
			return toImportResult(&res), err
		}, func(ctx context.Context, err error) {
			done()
			if err != nil && failed != nil {
				failed(ctx)
			}
		})
	if err != nil {
		done()
		return Job{}, err
	}
	return toJob(j, s.Wall()), nil
}

func toJob(j *store.Job, now time.Time) Job {
	out := Job{Id: j.ID, Kind: j.Kind, State: JobState(j.State), Done: int(j.Done), Total: int(j.Total)}
	if took := now.Sub(j.StartedAt); j.State == store.JobRunning && j.Done > 0 && took > 0 {
		out.SecondsLeft = int(took.Seconds() * float64(j.Total-j.Done) / float64(j.Done))
	}
	switch j.State {
	case store.JobDone:
		var res ImportResult
		if j.Kind == "import" && json.Unmarshal([]byte(j.Result), &res) == nil {
			out.Import = &res
		}
	case store.JobFailed:
		d := struct{ Problem string }{"Its process stopped before it was done; nothing was changed. Start it again."}
		_ = json.Unmarshal([]byte(j.Result), &d)
		d.Problem = sentence(d.Problem)
		out.Problem = &d.Problem
	}
	return out
}

// GetJob implements StrictServerInterface.
func (s *Server) GetJob(ctx context.Context, r GetJobRequestObject) (GetJobResponseObject, error) {
	j, err := s.st.Job(ctx, r.Job)
	if err != nil {
		return nil, err
	}
	return GetJob200JSONResponse(toJob(j, s.Wall())), nil
}

// StopJob implements StrictServerInterface.
func (s *Server) StopJob(ctx context.Context, r StopJobRequestObject) (StopJobResponseObject, error) {
	j, err := s.st.Job(ctx, r.Job)
	if err != nil {
		return nil, err
	}
	if who := person(ctx); j.PersonID != who.ID && !who.Role.May(store.Coordinator) {
		return nil, problem(403, "An editor stops what they began themselves; a coordinator may stop all.")
	}
	return StopJob204Response{}, s.st.StopJob(ctx, r.Job)
}

// SheetJobs implements StrictServerInterface.
func (s *Server) SheetJobs(ctx context.Context, r SheetJobsRequestObject) (SheetJobsResponseObject, error) {
	jobs, err := s.st.RunningJobs(ctx, r.Sheet)
	out := SheetJobs200JSONResponse{}
	for i := range jobs {
		out = append(out, toJob(&jobs[i], s.Wall()))
	}
	return out, err
}
