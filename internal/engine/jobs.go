package engine

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"nivot/internal/store"
)

// Progress is told how far work has come; its error gives the work up.
type Progress func(done, total int) error

// errStopped says that a person has stopped a job.
var errStopped = errors.New("it was stopped; nothing was changed")

// jobTries is how often a job is begun.
const jobTries = 4

// jobKey is the key of a context under which a job's work is done once, however often it begins.
type jobKey struct{}

// again reports whether a kind of job may be done again where what became of it is not known.
func again(kind string) bool { return kind == "import" }

// jobPace is how often a job's progress is written.
const jobPace = 300 * time.Millisecond

// Start has work done that may take long, on and on when the request that
// asked for it is over. What it gives becomes the job's result; work that
// fails, is stopped, or whose process ends must have changed nothing. Work whose connection to the database
// is lost begins again. ended, which may be nil, is told once what has become of it for good.
func (e *Engine) Start(ctx context.Context, sheetID, kind, person string, total int,
	work func(context.Context, Progress) (any, error), ended func(context.Context, error)) (*store.Job, error) {
	j := &store.Job{ID: store.NewID(), SheetID: sheetID, PersonID: store.DoerOf(ctx).ID, Person: person, Kind: kind,
		State: store.JobRunning, Total: int64(total)}
	if err := e.Store.AddJob(ctx, j); err != nil {
		return nil, err
	}
	ctx = context.WithValue(context.WithoutCancel(ctx), jobKey{},
		store.Once{Key: store.HashToken("job " + j.ID), Request: store.HashToken(kind)})
	e.jobs.Go(func() {
		last := time.Now()
		progress := func(done, total int) error {
			if time.Since(last) < jobPace && done < total {
				return nil
			}
			last = time.Now()
			stop, err := e.Store.SeeJob(ctx, j.ID, done, total)
			if err == nil && stop {
				err = errStopped
			}
			return err
		}
		result, err := work(ctx, progress)
		for try := 1; try < jobTries && again(kind) && store.Away(err); try++ {
			e.log.Warn("a job has lost its connection to the database; it begins again", "kind", kind, "error", err)
			time.Sleep(time.Duration(try) * time.Second)
			result, err = work(ctx, progress)
		}
		if ended != nil {
			ended(ctx, err)
		}
		st, detail := store.JobDone, result
		var refusal *Refusal
		switch {
		case errors.Is(err, errStopped):
			st, detail = store.JobStopped, nil
		case errors.As(err, &refusal):
			st, detail = store.JobFailed, map[string]string{"problem": refusal.Message, "field": refusal.Field}
		case err != nil:
			e.log.Error("a job failed", "kind", kind, "error", err)
			st, detail = store.JobFailed,
				map[string]string{"problem": "it failed on the server and has been logged; nothing was changed"}
		}
		b, _ := json.Marshal(detail)
		if err := e.Store.EndJob(ctx, j.ID, st, string(b)); err != nil {
			e.log.Error("what a job came to could not be written", "kind", kind, "error", err)
		}
	})
	return j, nil
}
