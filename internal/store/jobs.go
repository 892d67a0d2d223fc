package store

import (
	"context"
	"time"
)

// JobState says how far a job has come.
type JobState string

// The states of a job. One whose process has stopped has failed, and has
// changed nothing.
const (
	JobRunning JobState = "running"
	JobDone    JobState = "done"
	JobFailed  JobState = "failed"
	JobStopped JobState = "stopped" // by a person
)

// Job is work that runs on when its page is closed.
type Job struct {
	ID        string `gorm:"primaryKey"`
	SheetID   string
	PersonID  string // who began it; "" for the application itself
	Person    string // the name then
	Kind      string
	State     JobState
	Done      int64
	Total     int64
	Stop      bool   // somebody wants it to stop
	Result    string // JSON: what it came to, or its problem
	StartedAt time.Time
	SeenAt    time.Time // of its process, by the database's clock
}

// jobSilence is after how many seconds of silence a job's process is taken to
// have stopped.
const jobSilence = 20

const jobColumns = `id, sheet_id, person_id, person, kind,
	IF(state = 'running' AND seen_at < UTC_TIMESTAMP(6) - INTERVAL ? SECOND, 'failed', state) AS state,
	done, total, stop, COALESCE(result, '') AS result, started_at, seen_at`

// AddJob keeps a new job.
func (s *Store) AddJob(ctx context.Context, j *Job) error {
	return s.DB(ctx).Exec(
		"INSERT INTO jobs (id, sheet_id, person_id, person, kind, state, done, total, started_at, seen_at) VALUES "+
			"(?,?,?,?,?,'running',0,?,UTC_TIMESTAMP(6),UTC_TIMESTAMP(6))",
		j.ID, j.SheetID, j.PersonID, j.Person, j.Kind, j.Total).Error
}

// SeeJob notes how far a job has come, and tells whether it is to stop.
func (s *Store) SeeJob(ctx context.Context, id string, done, total int) (stop bool, err error) {
	if err := s.DB(ctx).Exec("UPDATE jobs SET done = ?, total = ?, seen_at = UTC_TIMESTAMP(6) WHERE id = ?", done, total,
		id).Error; err != nil {
		return false, err
	}
	err = s.DB(ctx).Raw("SELECT stop FROM jobs WHERE id = ?", id).Scan(&stop).Error
	return stop, err
}

// EndJob notes what a job came to.
func (s *Store) EndJob(ctx context.Context, id string, st JobState, result string) error {
	return s.DB(ctx).Exec("UPDATE jobs SET state = ?, result = ?, seen_at = UTC_TIMESTAMP(6) WHERE id = ?", st, result,
		id).Error
}

// StopJob asks a job to stop.
func (s *Store) StopJob(ctx context.Context, id string) error {
	return s.DB(ctx).Exec("UPDATE jobs SET stop = TRUE WHERE id = ? AND state = 'running'", id).Error
}

// Job finds a job.
func (s *Store) Job(ctx context.Context, id string) (*Job, error) {
	var j Job
	return &j, first(s.DB(ctx).Raw("SELECT "+jobColumns+" FROM jobs WHERE id = ?", jobSilence, id).Take(&j).Error)
}

// RunningJobs lists the jobs that are under way.
func (s *Store) RunningJobs(ctx context.Context, sheetID string) (out []Job, err error) {
	err = s.DB(ctx).Raw("SELECT "+jobColumns+
		" FROM jobs WHERE sheet_id = ? AND state = 'running' AND seen_at > UTC_TIMESTAMP(6) - INTERVAL ? SECOND ORDER BY "+
		"started_at",
		jobSilence, sheetID, jobSilence).Scan(&out).Error
	return out, err
}
