package engine

import (
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"nivot/internal/core/reason"
)

// What a monitor is told of what there is to do.
func TestFigures(t *testing.T) {
	f := stillFixture(t, "2027-03-12T08:00:00Z")
	f.unchecked = true
	var port int
	senders, err := f.Store.Senders(f.ctx)
	if err != nil {
		t.Fatal(err)
	}
	port = senders[0].Port
	manyLoans(t, f.Engine, 5, "2027-03-19", port)
	f.mu.Lock()
	f.clock = at("2027-03-12T09:10:00Z") // ten minutes after they were due
	f.mu.Unlock()
	if err := f.Store.Rest(f.ctx, senders[0].ID, f.clock, f.clock.Add(time.Minute), 1,
		reason.Reason{Code: reason.SenderRefused}, "535 no"); err != nil {
		t.Fatal(err)
	}
	reg := prometheus.NewPedanticRegistry()
	if err := reg.Register(f.Collector()); err != nil {
		t.Fatal(err)
	}
	families, err := reg.Gather()
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]float64{}
	for _, fam := range families {
		for _, m := range fam.Metric {
			name := fam.GetName()
			for _, l := range m.Label {
				name += "/" + l.GetValue()
			}
			got[name] = m.GetGauge().GetValue()
		}
	}
	for name, want := range map[string]float64{"nivot_database_up": 1, "nivot_sheets": 1, "nivot_deliveries/queued": 0,
		"nivot_deliveries/held": 0, "nivot_deliveries/in-doubt": 0, "nivot_senders_resting": 1} {
		if v, ok := got[name]; !ok || v != want {
			t.Errorf("%s: got %v (%v), want %v", name, v, ok, want)
		}
	}
	if got["nivot_agenda_due"] < 1 || got["nivot_late_seconds"] < 1 {
		t.Errorf("what is due and late: %v", got)
	}
	f.Store.Close()
	families, err = reg.Gather()
	if err != nil || len(families) != 1 || families[0].GetName() != "nivot_database_up" ||
		families[0].Metric[0].GetGauge().GetValue() != 0 {
		t.Errorf("with the database away: %v %v", families, err)
	}
}
