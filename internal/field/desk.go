// Package field takes what visitors' browsers say of a site's speed, keeps what each day comes to, and shows it over time
// with what was promoted.
package field

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"
	"golang.org/x/time/rate"

	"tidemarker/internal/core/field"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

const (
	// perSecond and atOnce are how many page views of one site are taken where nobody says otherwise.
	perSecond, atOnce = 5000, 10000
	// readPerSecond is how many keys are looked up in the database: beyond that somebody makes them up.
	readPerSecond = 100
	// knownFor is for how long a site is not read again for its next page view.
	knownFor = 10 * time.Second
	// keptVisits is for how many days page views are kept as they came, and keptDays what a day came to.
	keptVisits, keptDays = 3, 800
	// rolledUp is how often days are made of page views.
	rolledUp = time.Minute
)

// Desk does what is done to field data.
type Desk struct {
	Store *store.Store
	Log   *slog.Logger
	// PerSecond is how many page views of one site are taken in a second, and twice as many at once; 0 for the usual.
	PerSecond float64

	mu      sync.Mutex
	known   map[string]source
	reads   *rate.Limiter
	reading singleflight.Group
	waiting []taken
	kick    chan struct{}
	start   sync.Once
}

// source is a site that a beacon's key names.
type source struct {
	id      int64
	share   float64
	pages   []site.Page
	hosts   []site.Environment
	limit   *rate.Limiter
	until   time.Time
	unknown bool
}

// taken is a page view that waits to be written.
type taken struct {
	visit store.Visit
	done  chan error
}

// Refused says why a beacon was not taken.
type Refused struct {
	Why  string
	Busy bool // it may be said again later
	Gone bool // nobody asks for it
}

func (e *Refused) Error() string { return e.Why }

// Take takes one beacon of a page view that came from an origin ("" when the browser said none), and returns when it is
// kept: what was answered is not lost. The error is a *[Refused] when it is the beacon's fault.
func (d *Desk) Take(ctx context.Context, key, origin string, raw []byte) error {
	of, err := d.source(ctx, key)
	if err != nil {
		return err
	}
	if of.unknown {
		return &Refused{Why: "there is no such beacon", Gone: true}
	}
	if !of.owns(origin) {
		return &Refused{Why: "it does not come from one of the site's hosts"}
	}
	if !of.limit.Allow() {
		return &Refused{Why: "the site sends more than is taken", Busy: true}
	}
	b, err := field.Read(raw)
	if err != nil {
		return &Refused{Why: err.Error()}
	}
	v := store.Visit{At: time.Now(), SiteID: of.id, Class: field.ClassOf(of.pages, b.Path), Device: b.Device, Steps: map[measure.Metric]int{}}
	for name, value := range b.Metrics {
		m := field.Metrics[name].Metric
		v.Steps[m] = field.Step(m, value)
	}
	return d.keep(ctx, v)
}

// Share is the share of page views that tell, of the site with a key. The error is a *[Refused] when no site has it.
func (d *Desk) Share(ctx context.Context, key string) (float64, error) {
	of, err := d.source(ctx, key)
	if err == nil && of.unknown {
		err = &Refused{Why: "there is no such beacon", Gone: true}
	}
	return of.share, err
}

// source is the site of a key, as it was some seconds ago at most.
func (d *Desk) source(ctx context.Context, key string) (source, error) {
	d.mu.Lock()
	of, there := d.known[key]
	d.mu.Unlock()
	if there && time.Now().Before(of.until) {
		return of, nil
	}
	if !there {
		of.limit = rate.NewLimiter(perSecond, atOnce)
		if d.PerSecond > 0 {
			of.limit = rate.NewLimiter(rate.Limit(d.PerSecond), int(2*d.PerSecond))
		}
	}
	// Of many page views at once one reads it.
	read, err, _ := d.reading.Do(key, func() (any, error) {
		if !there && !d.mayRead() {
			return nil, &Refused{Why: "too many keys are asked for that nobody has", Busy: true}
		}
		return d.read(context.WithoutCancel(ctx), key, of.limit)
	})
	if err != nil {
		return of, err
	}
	return read.(source), nil
}

// read reads the site of a key from the database.
func (d *Desk) read(ctx context.Context, key string, limit *rate.Limiter) (source, error) {
	of := source{limit: limit, until: time.Now().Add(knownFor)}
	f, err := d.Store.FieldSourceOf(ctx, key)
	switch {
	case errors.Is(err, store.ErrNotFound):
		of.unknown = true
	case err != nil:
		return of, err
	default:
		row, err := d.Store.Site(ctx, f.SiteID)
		if err != nil {
			return of, err
		}
		of.id, of.share, of.pages, of.hosts = row.ID, f.Share, row.Document.V.Pages, row.Document.V.Environments
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.known == nil || len(d.known) > 1000 { // keys that nobody has are made up by somebody
		d.known = map[string]source{}
	}
	d.known[key] = of
	return of, nil
}

// mayRead tells whether a key that is not known may be looked up now.
func (d *Desk) mayRead() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.reads == nil {
		d.reads = rate.NewLimiter(readPerSecond, readPerSecond)
	}
	return d.reads.Allow()
}

// owns tells whether an origin is one of the site's.
func (s source) owns(origin string) bool {
	if origin == "" {
		return true
	}
	u, err := url.Parse(origin)
	if err != nil {
		return false
	}
	for _, env := range s.hosts {
		if env.Owns(u) {
			return true
		}
	}
	return false
}

// keep has a page view written together with all that come meanwhile.
func (d *Desk) keep(ctx context.Context, v store.Visit) error {
	d.start.Do(func() {
		d.kick = make(chan struct{}, 1)
		go d.write()
	})
	t := taken{v, make(chan error, 1)}
	d.mu.Lock()
	d.waiting = append(d.waiting, t)
	d.mu.Unlock()
	select {
	case d.kick <- struct{}{}:
	default:
	}
	select {
	case err := <-t.done:
		return err
	case <-ctx.Done():
		return ctx.Err() // it may be kept all the same
	}
}

// write writes what waits, again and again. It goes on as long as the process.
func (d *Desk) write() {
	for range d.kick {
		d.mu.Lock()
		list := d.waiting
		d.waiting = nil
		d.mu.Unlock()
		visits := make([]store.Visit, len(list))
		for i, t := range list {
			visits[i] = t.visit
		}
		if len(list) == 0 {
			continue
		}
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		err := d.Store.SaveVisits(ctx, visits)
		cancel()
		for _, t := range list {
			t.done <- err
		}
	}
}

// Keep makes room for page views, makes days of them and drops what is old, until the context ends.
func (d *Desk) Keep(ctx context.Context) {
	tick := time.NewTicker(rolledUp)
	defer tick.Stop()
	for {
		if err := d.Tidy(ctx, time.Now()); err != nil && ctx.Err() == nil {
			d.Log.Error("field data could not be rolled up", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// Tidy does once what Keep does. Of several servers one does it.
func (d *Desk) Tidy(ctx context.Context, now time.Time) error {
	return d.Store.Within(ctx, func(s *store.Store) error {
		mine, err := s.TryLockField(ctx)
		if err != nil || !mine {
			return err
		}
		if err := s.RollUpVisits(ctx); err != nil {
			return err
		}
		if err := s.KeepVisitsFor(ctx, now.AddDate(0, 0, -1), 3, now.AddDate(0, 0, -keptVisits)); err != nil {
			return err
		}
		return s.DropFieldDays(ctx, now.AddDate(0, 0, -keptDays))
	})
}

// Begin gives a site a beacon, with a new key, of which a share of page views tell.
func (d *Desk) Begin(ctx context.Context, siteID int64, share float64, who string) error {
	if share <= 0 || share > 1 {
		return &Refused{Why: "the share of page views has to be above 0 and at most 1"}
	}
	if _, err := d.Store.Site(ctx, siteID); err != nil {
		return err
	}
	if err := d.Tidy(ctx, time.Now()); err != nil {
		return err
	}
	return d.Store.SetFieldSource(ctx, store.FieldSource{SiteID: siteID, Key: strings.ToLower(rand.Text()), Share: share, MadeBy: who})
}

// End takes the beacon away: pages that still have it are not listened to.
func (d *Desk) End(ctx context.Context, siteID int64) error {
	return d.Store.DropFieldSource(ctx, siteID)
}

// Add keeps page views of which it is known when they were, such as made-up ones.
func (d *Desk) Add(ctx context.Context, visits []store.Visit) error {
	type of struct {
		site          int64
		day           string
		class, device string
		metric        measure.Metric
	}
	days := map[of]*store.FieldDay{}
	for _, v := range visits {
		for m, step := range v.Steps {
			k := of{v.SiteID, v.At.UTC().Format(time.DateOnly), v.Class, v.Device, m}
			if days[k] == nil {
				day, err := time.Parse(time.DateOnly, k.day)
				if err != nil {
					return err
				}
				days[k] = &store.FieldDay{SiteID: v.SiteID, Day: day, Class: v.Class, Device: v.Device, Metric: m, Source: "beacon", Steps: field.Histogram{}}
			}
			days[k].Visits++
			days[k].Steps[step]++
		}
	}
	list := make([]store.FieldDay, 0, len(days))
	for _, d := range days {
		list = append(list, *d)
	}
	if err := d.Store.SaveFieldDays(ctx, list); err != nil {
		return fmt.Errorf("keep days of page views: %w", err)
	}
	return nil
}
