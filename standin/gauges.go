package standin

import (
	"math"
	"math/rand/v2"
	"time"
)

// Harbour is one of the Tide Office's harbours.
type Harbour struct {
	ID        string    `json:"id" xml:"id,attr"`
	Name      string    `json:"name" xml:"name"`
	UpdatedAt time.Time `json:"updated_at" xml:"updated_at"`
}

// Station is a tide gauge.
type Station struct {
	ID      string  `json:"id" xml:"id,attr"`
	Harbour string  `json:"harbour" xml:"harbour"`
	Name    string  `json:"name" xml:"name"`
	Datum   float64 `json:"datum_m" xml:"datum_m"` // of the gauge above chart zero, metres
	LastAt  string  `json:"last_reading_at" xml:"last_reading_at"`
	LastM   float64 `json:"last_level_m" xml:"last_level_m"`
}

// Reading is one water level.
type Reading struct {
	At    time.Time `json:"at" xml:"at,attr"`
	Level float64   `json:"level_m" xml:"level_m"` // metres above chart zero
}

// Readings are taken every ten minutes and kept for thirty days.
const (
	readingStep = 10 * time.Minute
	readingSpan = 30 * 24 * time.Hour
)

// constituent is one harmonic part of the tide. Its period decides the rest:
// the beat of the first two is the fortnight from spring to neap.
type constituent struct {
	hours     float64 // period
	amplitude float64 // metres
}

var constituents = []constituent{{12.4206, 1.10}, {12.0000, 0.40}, {25.8193, 0.09}, {23.9345, 0.12}}

type gaugeSite struct {
	Station
	scale  float64   // of the whole tide
	phases []float64 // radians, by constituent
}

type gauges struct {
	harbours []Harbour
	sites    []gaugeSite
}

func newGauges(seed uint64) *gauges {
	rng := rand.New(rand.NewPCG(seed, 0x71de))
	epoch := time.Date(2026, 1, 5, 8, 0, 0, 0, time.UTC)
	g := &gauges{}
	for i, h := range []struct{ id, name string }{{"skarvik", "Skarvik"}, {"ternby", "Ternby"}, {"ostrehavn", "Ostrehavn"}, {"mirvag", "Mirvag"}} {
		g.harbours = append(g.harbours, Harbour{h.id, h.name, epoch.AddDate(0, i*2, i*5).Add(time.Duration(rng.IntN(600)) * time.Minute)})
	}
	for _, st := range []struct{ id, harbour, name string }{
		{"skarvik-quay", "skarvik", "Skarvik Inner Quay"}, {"skarvik-mole", "skarvik", "Skarvik Outer Mole"},
		{"ternby-lock", "ternby", "Ternby Lock"}, {"ternby-bar", "ternby", "Ternby Bar"},
		{"ostrehavn-pier", "ostrehavn", "Ostrehavn Long Pier"}, {"mirvag-light", "mirvag", "Mirvag Light"},
	} {
		site := gaugeSite{Station: Station{ID: st.id, Harbour: st.harbour, Name: st.name, Datum: round(2.2+rng.Float64(), 2)}, scale: 0.8 + 0.4*rng.Float64()}
		for range constituents {
			site.phases = append(site.phases, 2*math.Pi*rng.Float64())
		}
		g.sites = append(g.sites, site)
	}
	return g
}

// level is the water level at a time: pure arithmetic, so that any reading can
// be made again.
func (s *gaugeSite) level(at time.Time) float64 {
	hours := float64(at.Unix()) / 3600
	sum := 0.0
	for i, c := range constituents {
		sum += c.amplitude * math.Cos(2*math.Pi*hours/c.hours+s.phases[i])
	}
	return round(s.Datum+s.scale*sum, 3)
}

// readings lists the readings in [since, until], as far as they are kept.
func (s *gaugeSite) readings(now, since, until time.Time) []Reading {
	first, last := now.Add(-readingSpan).Truncate(readingStep), now.Truncate(readingStep)
	if since.After(first) {
		first = since.Add(readingStep - 1).Truncate(readingStep)
	}
	if until.Before(last) {
		last = until.Truncate(readingStep)
	}
	var out []Reading
	for at := first; !at.After(last); at = at.Add(readingStep) {
		out = append(out, Reading{at.UTC(), s.level(at)})
	}
	return out
}

// station is the site with its last reading.
func (s *gaugeSite) station(now time.Time) Station {
	at := now.Truncate(readingStep).UTC()
	st := s.Station
	st.LastAt, st.LastM = at.Format(time.RFC3339), s.level(at)
	return st
}

func round(v float64, places int) float64 {
	p := math.Pow10(places)
	return math.Round(v*p) / p
}
