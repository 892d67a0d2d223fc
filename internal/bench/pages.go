package bench

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"
)

// How long pages are open while cells are edited, and how many a second.
const (
	openFor      = 30 * time.Second
	openEdits    = 20
	presenceBeat = 5 * time.Second // as in web/src/places/sheets/presence.ts
	roundRest    = 500 * time.Millisecond
	laterRest    = 5 * time.Second // as in web/src/api/live.ts
)

// openPage is a page of a sheet as a browser has it open: it hears of changes, and asks again for its
// window of rows where it holds one that has changed, and for the figures of the sheet with more of them.
type openPage struct {
	o      *office
	name   string
	client *http.Client
	offset int
	rows   map[string]bool
}

func (p *openPage) ask() error {
	text, err := p.o.call(p.client, "POST", "/api/sheets/"+p.o.sheet+"/rows/query",
		map[string]any{"offset": p.offset, "limit": 200})
	if err != nil || p.rows != nil { // a cell's edit leaves each row in its window
		return err
	}
	var got struct{ Rows []struct{ ID string } }
	if err := json.Unmarshal(text, &got); err != nil {
		return err
	}
	p.rows = map[string]bool{}
	for _, r := range got.Rows {
		p.rows[r.ID] = true
	}
	return nil
}

// run lives the page until its stream ends, and counts what it asks for.
func (p *openPage) run(stop <-chan struct{}, asked func(n int)) error {
	if err := p.ask(); err != nil {
		return err
	}
	res, err := p.client.Get(p.o.base + "/api/events")
	if err != nil {
		return err
	}
	defer res.Body.Close()
	changes := make(chan []string, 100)
	go func() {
		defer close(changes)
		in := bufio.NewScanner(res.Body)
		in.Buffer(nil, 1<<20)
		for in.Scan() {
			var c struct{ Rows []string }
			if data, ok := bytes.CutPrefix(in.Bytes(), []byte("data: ")); ok && json.Unmarshal(data, &c) == nil {
				changes <- c.Rows
			}
		}
	}()
	presence := time.NewTicker(presenceBeat)
	defer presence.Stop()
	var now, later <-chan time.Time
	for {
		select {
		case <-stop:
			return nil
		case rows, ok := <-changes:
			if !ok {
				return fmt.Errorf("a stream of changes has ended")
			}
			for _, id := range rows {
				if p.rows[id] && now == nil {
					now = time.After(roundRest)
				}
			}
			if later == nil {
				later = time.After(laterRest)
			}
		case <-now:
			now = nil
			asked(1)
			if err := p.ask(); err != nil {
				return err
			}
		case <-later:
			later = nil
			for _, path := range []string{"", "/rules"} {
				asked(1)
				if _, err := p.o.call(p.client, "GET", "/api/sheets/"+p.o.sheet+path, nil); err != nil {
					return err
				}
			}
		case <-presence.C:
			if _, err := p.o.call(p.client, "POST", "/api/sheets/"+p.o.sheet+"/presence",
				map[string]any{"page": p.name, "thing": "", "leaves": false}); err != nil {
				return err
			}
		}
	}
}

// rowIDs lists the sheet's rows.
func (o *office) rowIDs() (ids []string, err error) {
	for offset := 0; offset < crowdRows; offset += 500 {
		text, err := o.call(o.clients[0], "POST", "/api/sheets/"+o.sheet+"/rows/query",
			map[string]any{"offset": offset, "limit": 500, "marks": false})
		if err != nil {
			return nil, err
		}
		var got struct{ Rows []struct{ ID string } }
		if err := json.Unmarshal(text, &got); err != nil {
			return nil, err
		}
		for _, r := range got.Rows {
			ids = append(ids, r.ID)
		}
	}
	return ids, nil
}

// pages measures what many open pages of one sheet cost while cells of it are edited.
func (b *bench) pages(o *office) error {
	stop := make(chan struct{})
	var all sync.WaitGroup
	var mu sync.Mutex
	var failed error
	asked := 0
	fail := func(err error) {
		mu.Lock()
		defer mu.Unlock()
		if failed == nil {
			failed = err
		}
	}
	for i, c := range o.clients {
		p := &openPage{o: o, name: fmt.Sprintf("%024d", i), client: c, offset: 200 * (i % (crowdRows / 200))}
		all.Go(func() {
			if err := p.run(stop, func(n int) { mu.Lock(); asked += n; mu.Unlock() }); err != nil {
				fail(err)
			}
		})
	}
	ids, err := o.rowIDs()
	if err != nil {
		return err
	}
	time.Sleep(3 * time.Second)
	began, before := time.Now(), processorTime(b)
	mu.Lock()
	asked = 0
	mu.Unlock()
	tick := time.NewTicker(time.Second / openEdits)
	for k := 0; time.Since(began) < openFor; k++ {
		<-tick.C
		id := ids[rand.IntN(len(ids))]
		if _, err := o.call(o.clients[k%len(o.clients)], "PATCH", "/api/sheets/"+o.sheet+"/rows/"+id,
			map[string]any{"cells": map[string]string{"c2": fmt.Sprint("edit ", k)}}); err != nil {
			fail(err)
			break
		}
	}
	tick.Stop()
	span, after := time.Since(began).Seconds(), processorTime(b)
	close(stop)
	all.Wait()
	if failed != nil {
		return failed
	}
	own, database := (after[0]-before[0]).Seconds()/span, (after[1]-before[1]).Seconds()/span
	b.add(Result{
		What: fmt.Sprintf("%d open pages of a sheet, %d edits a second: processors at work, clients too",
			len(o.clients), openEdits),
		Against: fmt.Sprintf("half of one (%.2f Nivot, %.2f the database; %.0f questions a second)", own, database,
			float64(asked)/span),
		Value: fmt.Sprintf("%.2f", own+database), Limit: "0.50", Ratio: (own + database) / 0.5,
		Goal: "<= 1.00", Met: own+database <= 0.5})
	return nil
}

// processorTime gives how long this process and the benchmark's database have been at work, or zero where
// the system does not say.
func processorTime(b *bench) (out [2]time.Duration) {
	for i, pid := range []int{os.Getpid(), b.db.Pid()} {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil {
			return out
		}
		f := strings.Fields(string(text[bytes.LastIndexByte(text, ')')+1:]))
		for _, k := range []int{11, 12} { // utime, stime: proc(5)
			n, _ := strconv.ParseInt(f[k], 10, 64)
			out[i] += time.Duration(n) * 10 * time.Millisecond
		}
	}
	return out
}
