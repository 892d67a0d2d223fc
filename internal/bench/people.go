package bench

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"runtime"
	"slices"
	"sync"
	"time"

	"nivot/internal/api"
	"nivot/internal/store"
)

// How many people work at the same time, for how long, and how often each asks for a page of
// rows and, every other time, changes a cell: 20 changes a second by all.
const (
	crowd      = 200
	crowdFor   = time.Minute
	crowdEvery = 5 * time.Second
	crowdRows  = 10_000
)

// office is a server with people who are signed in.
type office struct {
	base    string
	sheet   string
	clients []*http.Client
}

func (o *office) call(c *http.Client, method, path string, data any) ([]byte, error) {
	b, err := json.Marshal(data)
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequest(method, o.base+path, bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Sec-Fetch-Site", "same-origin")
	req.Header.Set("Content-Type", "application/json")
	res, err := c.Do(req)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err == nil && res.StatusCode >= 300 {
		err = fmt.Errorf("%s %s: %d %.200s", method, path, res.StatusCode, text)
	}
	return text, err
}

// work lets the first n people work for a while, and gives how long their pages and their edits
// took, in milliseconds and in order.
func (o *office) work(n int, span time.Duration) (pages, edits []float64, err error) {
	var mu sync.Mutex
	var all sync.WaitGroup
	end := time.Now().Add(span)
	for i, c := range o.clients[:n] {
		all.Go(func() {
			time.Sleep(crowdEvery * time.Duration(i) / time.Duration(n))
			for k := 0; time.Now().Before(end); k++ {
				began := time.Now()
				text, fault := o.call(c, "POST", "/api/sheets/"+o.sheet+"/rows/query",
					map[string]any{"offset": (i * 37) % (crowdRows - 200), "limit": 200})
				page := time.Since(began)
				var got struct{ Rows []struct{ ID string } }
				if fault == nil {
					fault = json.Unmarshal(text, &got)
				}
				edit := time.Duration(0)
				if fault == nil && k%2 == i%2 && len(got.Rows) > 0 {
					began = time.Now()
					_, fault = o.call(c, "PATCH", "/api/sheets/"+o.sheet+"/rows/"+got.Rows[k%len(got.Rows)].ID,
						map[string]any{"cells": map[string]string{"c2": fmt.Sprintf("by %d, %d", i, k)}})
					edit = time.Since(began)
				}
				mu.Lock()
				if fault != nil {
					err = fault
				}
				pages = append(pages, page.Seconds()*1000)
				if edit > 0 {
					edits = append(edits, edit.Seconds()*1000)
				}
				mu.Unlock()
				time.Sleep(max(0, crowdEvery-time.Since(began)))
			}
		})
	}
	all.Wait()
	slices.Sort(pages)
	slices.Sort(edits)
	return pages, edits, err
}

// office makes a server with people who are signed in.
func (b *bench) office() (o *office, end func(), err error) {
	st, e, rec, err := b.manySheet(crowdRows)
	if err != nil {
		return nil, nil, err
	}
	base, stop, err := b.serve(e)
	if err != nil {
		st.Close()
		return nil, nil, err
	}
	end = func() { stop(); st.Close() }
	o = &office{base: base, sheet: rec.ID}
	hash := api.HashPassword("weathercock-1790")
	for i := range crowd {
		email := fmt.Sprintf("person%d@marrowby.example", i)
		if err := st.SavePerson(b.ctx, &store.Person{ID: store.NewID(), Name: fmt.Sprintf("Person %d", i), Email: email,
			Role: store.Editor, PasswordHash: hash, CreatedAt: e.Now()}); err != nil {
			return nil, nil, err
		}
	}
	for i := range crowd {
		jar, err := cookiejar.New(nil)
		if err != nil {
			return nil, nil, err
		}
		c := &http.Client{Jar: jar, Transport: &http.Transport{MaxIdleConnsPerHost: 2}}
		for {
			_, err = o.call(c, "POST", "/api/session", map[string]string{"email": fmt.Sprintf("person%d@marrowby.example", i),
				"password": "weathercock-1790"})
			if err == nil {
				break
			}
			if b.ctx.Err() != nil {
				return nil, nil, b.ctx.Err()
			}
			time.Sleep(time.Second) // so many a minute may sign in from one address
		}
		o.clients = append(o.clients, c)
	}
	return o, end, nil
}

// people measures many people at work at the same time, each with a stream of changes open.
func (b *bench) people() error {
	o, end, err := b.office()
	if err != nil {
		return err
	}
	defer end()
	alone, _, err := o.work(1, 10*time.Second)
	if err != nil {
		return err
	}
	streams := make([]io.Closer, len(o.clients))
	for i, c := range o.clients {
		res, err := c.Get(o.base + "/api/events")
		if err != nil {
			return err
		}
		streams[i] = res.Body
		go func() { _, _ = io.Copy(io.Discard, res.Body) }()
	}
	var most uint64
	stop := make(chan struct{})
	watched := make(chan struct{})
	go func() {
		defer close(watched)
		for {
			select {
			case <-stop:
				return
			case <-time.After(200 * time.Millisecond):
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				most = max(most, m.HeapInuse)
			}
		}
	}()
	pages, edits, err := o.work(crowd, crowdFor)
	close(stop)
	<-watched
	for _, s := range streams {
		s.Close()
	}
	if err != nil {
		return err
	}
	at := func(v []float64, share float64) float64 { return v[min(len(v)-1, int(share*float64(len(v))))] }
	one := at(alone, 0.5)
	for _, x := range []struct {
		what string
		ms   float64
	}{{"a page of 200 rows, median", at(pages, 0.5)}, {"a page of 200 rows, 95 %", at(pages, 0.95)},
		{"an edit, median", at(edits, 0.5)}, {"an edit, 95 %", at(edits, 0.95)}} {
		b.add(Result{What: fmt.Sprintf("%d people and streams for %s: %s", crowd, crowdFor, x.what),
			Against: "a page of 200 rows for one alone, median",
			Value:   fmt.Sprintf("%.1f ms", x.ms), Limit: fmt.Sprintf("%.1f ms", one), Ratio: x.ms / one, Goal: "<= 1000 ms",
			Met: x.ms <= 1000})
	}
	b.add(Result{What: fmt.Sprintf("%d people and streams for %s: heap, clients too", crowd, crowdFor),
		Against: "(as it is)", Value: fmt.Sprintf("%d MB", most>>20), Limit: "400 MB",
		Ratio: float64(most) / (400 << 20), Goal: "<= 1.00", Met: most <= 400<<20})
	return b.pages(o)
}
