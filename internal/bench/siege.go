package bench

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"mime/multipart"
	"net"
	"net/http"
	"net/http/cookiejar"
	"os"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nivot/internal/api"
	"nivot/internal/core/delivery"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// What comes at once while emails flow.
const (
	siegeEmails  = 3000
	siegeApart   = 20 * time.Millisecond
	siegeSlow    = 2000 // connections that send their headers a byte a second
	siegeStops   = 500  // recipients who stop emails, within a second
	siegeUploads = 50   // files, by five people
	siegeBytes   = 20 << 20
	siegeMemory  = 600 // MB
)

// siege measures what a crowd of strangers and large files do to emails and to memory: the process's own, with its
// clients.
func (b *bench) siege() error {
	addr, stopSink, err := startSink()
	if err != nil {
		return err
	}
	defer stopSink()
	s, err := b.store()
	if err != nil {
		return err
	}
	defer s.Close()
	debug.FreeOSMemory()
	e := engine.New(s, time.Now, engine.Options{PublicURL: "http://127.0.0.1"})
	if err := s.SaveSender(b.ctx, &store.Sender{ID: "s", Name: "Loans desk", Address: "loans@marrowby.example",
		Host: addr.IP.String(), Port: addr.Port, Security: "none", CreatedAt: time.Now()}); err != nil {
		return err
	}
	base, stop, err := b.serve(e)
	if err != nil {
		return err
	}
	defer stop()
	people, err := b.uploaders(s, base)
	if err != nil {
		return err
	}
	ds, err := b.queue(s, siegeEmails, siegeApart)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(b.ctx)
	var running, clients sync.WaitGroup
	running.Go(func() { _ = e.Run(ctx) })
	var peak atomic.Int64
	running.Go(func() {
		for ctx.Err() == nil {
			peak.Store(max(peak.Load(), resident()))
			time.Sleep(20 * time.Millisecond)
		}
	})
	for range siegeSlow {
		running.Go(func() { drip(ctx, strings.TrimPrefix(base, "http://")) })
	}
	time.Sleep(2 * time.Second)
	var refused, stopped, taken atomic.Int64
	var upload sync.Mutex
	var longest time.Duration
	for i := range siegeUploads {
		clients.Go(func() {
			began := time.Now()
			if err := sendFile(people[i%len(people)], base); err != nil {
				fmt.Fprintln(b.out, err)
				return
			}
			taken.Add(1)
			upload.Lock()
			longest = max(longest, time.Since(began))
			upload.Unlock()
		})
	}
	presser := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 50, MaxConnsPerHost: 50}}
	for i := range siegeStops {
		link, err := e.OptOutLink(b.ctx, ds[i], "")
		if err != nil {
			cancel()
			return err
		}
		clients.Go(func() {
			time.Sleep(time.Duration(i) * time.Second / siegeStops)
			for range 5 { // a silent connection may have had to give way to another
				res, err := presser.Post(base+link, "application/x-www-form-urlencoded",
					strings.NewReader("List-Unsubscribe=One-Click"))
				if err != nil {
					continue
				}
				res.Body.Close()
				if res.StatusCode == http.StatusOK {
					stopped.Add(1)
				} else {
					refused.Add(1)
				}
				return
			}
			refused.Add(1)
		})
	}
	clients.Wait()
	late, err := b.latest(s)
	cancel()
	running.Wait()
	if err != nil {
		return err
	}
	what := fmt.Sprintf("%d slow connections, %d uploads of %d MB, %d opt-outs: ", siegeSlow, siegeUploads, siegeBytes>>20,
		siegeStops)
	mb := float64(peak.Load()) / (1 << 20)
	b.add(Result{What: what + "memory, clients too", Against: "(as it is)", Value: fmt.Sprintf("%.0f MB", mb),
		Limit: fmt.Sprintf("%d MB", siegeMemory), Ratio: mb / siegeMemory, Goal: "<= 1.00", Met: mb <= siegeMemory})
	b.add(Result{What: what + "the latest email", Against: "(as it is, after it was due)",
		Value: fmt.Sprintf("%.1f s", late.Seconds()), Limit: "60 s", Ratio: late.Minutes(), Goal: "<= 1.00",
		Met: late <= time.Minute})
	b.add(Result{What: what + "opt-outs that were taken", Against: "all", Value: fmt.Sprint(stopped.Load()),
		Limit: fmt.Sprint(siegeStops), Ratio: float64(stopped.Load()) / siegeStops, Goal: ">= 1.00",
		Met: stopped.Load() == siegeStops})
	b.add(Result{What: what + fmt.Sprintf("uploads that were taken, the longest in %.0f s", longest.Seconds()),
		Against: "all", Value: fmt.Sprint(taken.Load()), Limit: fmt.Sprint(siegeUploads), Ratio: float64(taken.Load()) / siegeUploads,
		Goal: ">= 1.00", Met: taken.Load() == siegeUploads})
	return nil
}

// latest waits until all emails have been accepted, and returns how long after it was due the latest was.
func (b *bench) latest(s *store.Store) (late time.Duration, err error) {
	for end := time.Now().Add(5 * time.Minute); ; time.Sleep(100 * time.Millisecond) {
		var ds []store.Delivery
		err := s.DB(b.ctx).Select("due_at", "finished_at").Where("state = ?", delivery.Accepted).Find(&ds).Error
		if err != nil {
			return 0, err
		}
		for _, d := range ds {
			if d.FinishedAt != nil {
				late = max(late, d.FinishedAt.Sub(d.DueAt))
			}
		}
		if len(ds) >= siegeEmails {
			return late, nil
		}
		if time.Now().After(end) {
			return 0, fmt.Errorf("only %d of %d emails went", len(ds), siegeEmails)
		}
	}
}

// uploaders signs five people in.
func (b *bench) uploaders(s *store.Store, base string) (out []*http.Client, err error) {
	o := &office{base: base}
	hash := api.HashPassword("weathercock-1790")
	for i := range 5 {
		email := fmt.Sprintf("person%d@marrowby.example", i)
		if err := s.SavePerson(b.ctx, &store.Person{ID: store.NewID(), Name: fmt.Sprintf("Person %d", i), Email: email,
			Role: store.Coordinator, PasswordHash: hash, CreatedAt: time.Now()}); err != nil {
			return nil, err
		}
		jar, _ := cookiejar.New(nil)
		c := &http.Client{Jar: jar}
		if _, err := o.call(c, "POST", "/api/session", map[string]string{"email": email,
			"password": "weathercock-1790"}); err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// drip opens a connection and sends its headers a byte a second, again and again.
func drip(ctx context.Context, address string) {
	for ctx.Err() == nil {
		conn, err := net.DialTimeout("tcp", address, 10*time.Second)
		if err != nil {
			time.Sleep(time.Second)
			continue
		}
		for _, c := range "GET / HTTP/1.1\r\nHost: nivot.example\r\nX-Slow: " {
			if _, err := conn.Write([]byte(string(c))); err != nil || ctx.Err() != nil {
				break
			}
			time.Sleep(time.Second)
		}
		conn.Close()
	}
}

// sendFile has a file looked at for an import; its lines are made as they are sent.
func sendFile(c *http.Client, base string) error {
	r, w := io.Pipe()
	form := multipart.NewWriter(w)
	go func() {
		part, err := form.CreateFormFile("file", "loans.csv")
		if err == nil {
			_, err = part.Write([]byte("Loan,Email,Object,Return due,Registrar,State\n"))
		}
		var block bytes.Buffer
		for i, n := 0, 0; n < siegeBytes && err == nil; n += block.Len() {
			block.Reset()
			for range 1000 {
				i++
				fmt.Fprintf(&block, "LN-%06d,contact%d@borrower.example,Stick barometer,2027-%02d-%02d,Registrar,out\n", i, i,
					1+i%12, 1+i%28)
			}
			_, err = part.Write(block.Bytes())
		}
		if err == nil {
			err = form.Close()
		}
		w.CloseWithError(err)
	}()
	req, err := http.NewRequest("POST", base+"/api/imports", r)
	if err != nil {
		return err
	}
	req.Header.Set("Sec-Fetch-Site", "same-origin")
	req.Header.Set("Content-Type", form.FormDataContentType())
	res, err := c.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, 300))
	if err == nil && res.StatusCode != http.StatusOK {
		err = fmt.Errorf("an upload: %d %s", res.StatusCode, text)
	}
	return err
}

// resident is the memory of the process in bytes (proc(5)); 0 where that is not told.
func resident() int64 {
	b, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return 0
	}
	var size, pages int64
	if _, err := fmt.Sscan(string(b), &size, &pages); err != nil {
		return 0
	}
	return pages * int64(os.Getpagesize())
}
