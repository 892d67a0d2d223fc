package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync"
	"time"

	"nivot/internal/core/reason"
	"nivot/internal/core/value"
	"nivot/internal/mail"
	"nivot/internal/store"
)

// Sender gives a sender, the first one for "", with its opened password.
func (e *Engine) Sender(ctx context.Context, id string) (*store.Sender, mail.Server, error) {
	senders, err := e.Store.Senders(ctx)
	if err != nil {
		return nil, mail.Server{}, err
	}
	for i := range senders {
		s := &senders[i]
		if id != "" && s.ID != id {
			continue
		}
		srv, err := e.server(s)
		return s, srv, err
	}
	return nil, mail.Server{}, errNoSender
}

var errNoSender = errors.New("there is no sender; add one under Setup")

// server gives the mail server of a sender, with its opened password.
func (e *Engine) server(s *store.Sender) (srv mail.Server, err error) {
	srv = mail.Server{Host: s.Host, Port: s.Port, Security: mail.Security(s.Security), Username: s.Username}
	if len(s.SealedPassword) == 0 {
		return srv, nil
	}
	if e.opts.Key == nil {
		return srv, errors.New("the sender has a password, but no key file is given; set NIVOT_KEY_FILE")
	}
	srv.Password, err = e.opts.Key.Open(s.SealedPassword, PasswordUse(s.ID))
	return srv, err
}

// PasswordUse names what a sender's sealed password is for.
func PasswordUse(senderID string) string { return "sender " + senderID + " password" }

// identity keeps what messages of a sender say of it now; 0 where there is no such sender.
func (e *Engine) identity(ctx context.Context, tx *store.Store, senderID string) (int64, error) {
	senders, err := tx.Senders(ctx)
	if err != nil {
		return 0, err
	}
	for i := range senders {
		if s := &senders[i]; senderID == "" || s.ID == senderID {
			return tx.IdentityOf(ctx, store.Identity{Name: s.Name, Address: s.Address, PublicURL: e.opts.PublicURL})
		}
	}
	return 0, nil
}

// senderNow is a sender as it stands: from whom its messages are, over which server, and how it does.
type senderNow struct {
	id      string
	ids     []string // under which its deliveries stand
	name    string
	address string
	from    value.Mailbox
	server  mail.Server
	limited bool // how much it sends is
	most    int  // connections that a person has allowed; 0 for any number
	state   store.SenderState
	err     *mail.Fault // why it cannot be used
}

// rests reports whether nothing of the sender goes at an instant, but for who tries it again.
func (s *senderNow) rests() bool { return s.state.RestsSince != nil }

// sendersKept are the senders as they stood a moment ago, so that sending asks the database
// for them a few times a second and not for each email.
type sendersKept struct {
	mu   sync.Mutex
	read time.Time // guarded by mu; zero where they have to be read anew
	list []*senderNow
}

// sendersFresh is for how long what was read of the senders is good. What this process saves
// is known at once.
const sendersFresh = 200 * time.Millisecond

// all returns the senders as they stand, the default one first. They are not to be changed.
func (k *sendersKept) all(ctx context.Context, e *Engine) ([]*senderNow, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.read.IsZero() || time.Since(k.read) > sendersFresh {
		if err := k.load(ctx, e); err != nil {
			return nil, err
		}
	}
	return k.list, nil
}

// now gives a sender as it stands, the default one for "".
func (k *sendersKept) now(ctx context.Context, e *Engine, id string) (*senderNow, error) {
	list, err := k.all(ctx, e)
	if err != nil {
		return nil, err
	}
	for _, s := range list {
		if id == "" || s.id == id {
			return s, nil
		}
	}
	return nil, errNoSender
}

func (k *sendersKept) load(ctx context.Context, e *Engine) error {
	senders, err := e.Store.Senders(ctx)
	if err != nil {
		return err
	}
	states, err := e.Store.SenderStates(ctx)
	if err != nil {
		return err
	}
	k.read, k.list = time.Now(), nil
	for i := range senders {
		s := &senders[i]
		now := &senderNow{id: s.ID, ids: s.StandsUnder(i == 0), name: s.Name, address: s.Address,
			limited: s.Limits().Limited(), most: s.MaxConnections, state: states[s.ID]}
		boxes, err := value.ParseMailboxes(s.Address)
		if err == nil && len(boxes) == 1 {
			now.from = boxes[0]
			now.from.Name = s.Name
			now.server, err = e.server(s)
		} else {
			err = fmt.Errorf("the sender's address %q cannot be used", s.Address)
		}
		if err != nil {
			now.err = &mail.Fault{Code: reason.Unreachable, Place: now.server.Place(), Err: err}
		}
		k.list = append(k.list, now)
	}
	return nil
}

// SendersChanged says that a sender has been saved: what is sent from now on goes as it says.
func (e *Engine) SendersChanged() {
	e.senders.mu.Lock()
	e.senders.read = time.Time{}
	e.senders.mu.Unlock()
}

// says sees to it that a claimed delivery says of its sender what is so now: where it was
// claimed before the sender changed, it is noted anew before anything goes out.
func (d *dispatcher) says(ctx context.Context, j *job, by *senderNow) error {
	if j.IdentityID != 0 {
		was, err := d.e.Store.Identity(ctx, j.IdentityID)
		if err != nil || was.Name == by.name && was.Address == by.address {
			return err
		}
	}
	return d.e.Store.Tx(ctx, func(tx *store.Store) error {
		id, err := tx.IdentityOf(ctx, store.Identity{Name: by.name, Address: by.address, PublicURL: d.e.opts.PublicURL})
		if err != nil {
			return err
		}
		if j.unclaimed != nil {
			j.unclaimed.Identity = id // it is noted with the mark
		} else if err := tx.SayOf(ctx, d.worker, j.ID, id); err != nil {
			return err
		}
		j.IdentityID = id
		return nil
	})
}

// helo is what this machine calls itself to mail servers.
func helo() string {
	name, err := os.Hostname()
	if err != nil || name == "" {
		return "localhost"
	}
	return name
}
