package demo

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"time"

	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/exchange"
	"nivot/internal/store"
)

//go:embed bundles
var bundles embed.FS

// Zone is the museum's.
const Zone = "Europe/London"

// Start is when the demo begins for who opens it; History is when its records
// begin: the four weeks between are played when it is set up. Morning is when
// the people of the museum begin to work on its last day.
var (
	Start   = time.Date(2027, 3, 15, 8, 40, 0, 0, time.UTC)
	Morning = time.Date(2027, 3, 15, 8, 30, 0, 0, time.UTC)
	History = time.Date(2027, 2, 15, 8, 0, 0, 0, time.UTC)
)

// Account is somebody who can sign in to the demo.
type Account struct {
	Name, Email string
	Role        store.Role
}

// Password is that of every account of the demo.
const Password = "weathercock-1790"

// Accounts lists who can sign in.
var Accounts = []Account{
	{"Ines Karne", "ines@marrowby.example", store.Administrator},
	{"Tom Ferrar", "tom@marrowby.example", store.Coordinator},
	{"Rosa Moss", "rosa@marrowby.example", store.Editor},
	{"Hugh Bellamy", "hugh@marrowby.example", store.Reader},
}

// IsSetUp tells whether the demo's data are there.
func IsSetUp(ctx context.Context, s *store.Store) (bool, error) {
	var done bool
	_, err := s.Setting(ctx, settingDone, &done)
	return done, err
}

const settingDone = "demo"

// SetUp makes the demo's people, sender, lists, sheets and rules. The engine
// must be running; the sheets' rules are switched on as the clock stands.
func SetUp(ctx context.Context, e *engine.Engine, hash func(string) string, smtpPort int) error {
	s := e.Store
	if err := s.Clear(ctx, store.SettingClock, store.SettingLife); err != nil {
		return err
	}
	for _, a := range Accounts {
		if err := s.SavePerson(ctx, &store.Person{ID: store.NewID(), Name: a.Name, Email: a.Email, Role: a.Role,
			PasswordHash: hash(Password), CreatedAt: e.Now()}); err != nil {
			return err
		}
	}
	if err := s.SaveSender(ctx, &store.Sender{ID: store.NewID(), Name: "Marrowby Museum",
		Address: "desk@marrowby.example", Host: "127.0.0.1",
		Port: smtpPort, Security: "none", CreatedAt: e.Now()}); err != nil {
		return err
	}
	boxes, err := value.ParseMailboxes("no-more-post@volunteers.marrowby.example")
	if err != nil {
		return err
	}
	if err := s.AddDoNotEmail(ctx, boxes[0], "asked by telephone", "Tom Ferrar", e.Now()); err != nil {
		return err
	}
	for _, name := range []string{"loans", "cases", "volunteers"} {
		dir, err := fs.Sub(bundles, "bundles/"+name)
		if err != nil {
			return err
		}
		b, err := exchange.ReadBundle(dir)
		if err != nil {
			return fmt.Errorf("demo data %s: %w", name, err)
		}
		if name == "loans" { // the museum's own days
			weekdays, closed := b.Calendar.Names()
			if _, err := e.SetCalendar(ctx, weekdays, closed, "Ines Karne"); err != nil {
				return err
			}
		}
		if _, err := e.Install(ctx, b, true, "Tom Ferrar"); err != nil {
			return err
		}
	}
	return nil
}

// Done notes that the demo has been set up whole.
func Done(ctx context.Context, s *store.Store) error { return s.SetSetting(ctx, settingDone, true) }
