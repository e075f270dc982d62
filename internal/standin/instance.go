package standin

import (
	"context"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/standin/origin"
)

type clock = func() time.Time

// Instance is one running environment of an invented site.
type Instance struct {
	Site        string
	Environment string
	URL         string // such as http://127.0.0.1:9101, without a slash at the end
	OtherHost   string // a second name of it, from which lettering comes; host and port
	Token       string // bearer token of the connector
	Layer       *Layer

	ahead  atomic.Int64 // by how many nanoseconds its clock was pushed
	site   Site
	origin Origin
	keep   string // file the settings are kept in, "" for none
	server *http.Server
	ctx    context.Context
	stop   context.CancelFunc
	work   sync.WaitGroup
}

// ConnectorPath is where an instance answers the connector protocol.
const ConnectorPath = "/_speed/v1"

// Options say how an instance is started.
type Options struct {
	Environment string
	Addr        string // such as 127.0.0.1:9101; port 0 takes a free one
	Token       string
	Keep        string               // file to keep the settings in; none when ""
	Now         clock                // nil means time.Now
	Desk        origin.Desk          // where its mail and payments go
	Tells       httpcache.SignalKind // by what its answers tell that they were cached; Cache-Status when ""
}

// StartFernhollow starts an environment of the shop.
func StartFernhollow(opt Options) (*Instance, error) { return Start(Fernhollow(), opt) }

// Start starts an environment of a site and returns when it answers. It fails when the
// address is taken.
func Start(s Site, opt Options) (*Instance, error) {
	if opt.Now == nil {
		opt.Now = time.Now
	}
	if err := tellable(opt.Tells); err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", opt.Addr)
	if err != nil {
		return nil, fmt.Errorf("start %s of %s: %w", opt.Environment, s.Name, err)
	}
	ctx, stop := context.WithCancel(context.Background())
	addr := l.Addr().String()
	inst := &Instance{Site: s.Name, Environment: opt.Environment, URL: "http://" + addr, OtherHost: strings.Replace(addr, "127.0.0.1", "localhost", 1),
		Token: opt.Token, site: s, keep: opt.Keep, ctx: ctx, stop: stop}
	now := func() time.Time { return opt.Now().Add(time.Duration(inst.ahead.Load())) }
	values, err := inst.kept()
	if err == nil {
		inst.origin, err = s.Open(inst.URL, now, opt.Desk)
	}
	if err != nil {
		stop()
		return nil, errors.Join(err, l.Close())
	}
	inst.Layer = NewLayer(s, inst.origin, inst.URL, values, now)
	inst.Layer.tells = opt.Tells
	if inst.keep != "" && inst.Layer.policy().text("page-cache-store") != "memory" {
		inst.Layer.cached.load(inst.keep + ".cached")
	}
	mux := http.NewServeMux()
	mux.Handle(ConnectorPath+"/", http.StripPrefix(ConnectorPath, (&connector{inst: inst, runs: map[string]*warming{}}).routes()))
	mux.HandleFunc("POST "+ClockPath, inst.pushClock)
	mux.Handle("/", inst.Layer)
	inst.server = &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	inst.work.Go(func() { _ = inst.server.Serve(l) })
	inst.work.Go(inst.warmOnSchedule)
	return inst, nil
}

// ClockPath is where whoever has the connector's token pushes the instance's clock, which no
// real site has: POST with ahead, such as 90m.
const ClockPath = "/_standin/clock"

// mostAhead is by how much a clock can be pushed at a time.
const mostAhead = 366 * 24 * time.Hour

// Push puts the clock of the instance forward: what is cached, and what forms hold, grows old.
func (i *Instance) Push(d time.Duration) { i.ahead.Add(int64(d)) }

func (i *Instance) pushClock(w http.ResponseWriter, r *http.Request) {
	if i.Token == "" || subtle.ConstantTimeCompare([]byte(r.Header.Get("Authorization")), []byte("Bearer "+i.Token)) != 1 {
		refuse(w, http.StatusUnauthorized, "Send the connector's token.", nil)
		return
	}
	d, err := time.ParseDuration(r.FormValue("ahead"))
	if err != nil || d <= 0 || d > mostAhead {
		refuse(w, http.StatusUnprocessableEntity, "ahead must be a time such as 90m, up to a year.", nil)
		return
	}
	i.Push(d)
	w.WriteHeader(http.StatusNoContent)
}

// ConnectorURL is the base address of the instance's connector.
func (i *Instance) ConnectorURL() string { return i.URL + ConnectorPath }

// Close stops the instance and waits until its work has ended.
func (i *Instance) Close() error {
	i.stop()
	err := i.server.Close()
	i.work.Wait()
	i.Layer.background.Wait()
	if c, is := i.origin.(io.Closer); is { // one that is a program of its own
		err = errors.Join(err, c.Close())
	}
	if i.keep != "" && i.Layer.policy().text("page-cache-store") != "memory" {
		err = errors.Join(err, i.Layer.cached.save(i.keep+".cached"))
	}
	return err
}

func (i *Instance) kept() (settings.Values, error) {
	cat := i.site.Catalogue
	if i.keep == "" {
		return cat.Defaults(), nil
	}
	raw, err := os.ReadFile(i.keep)
	if errors.Is(err, fs.ErrNotExist) {
		return cat.Defaults(), nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the kept settings: %w", err)
	}
	v, err := settings.ParseValues(raw)
	if err != nil {
		return nil, fmt.Errorf("read the kept settings in %s: %w", i.keep, err)
	}
	if err := cat.Validate(v); err != nil {
		return cat.Defaults(), nil // an older stand-in had other settings
	}
	return v, nil
}

// save keeps the settings in force on disk.
func (i *Instance) save() error {
	if i.keep == "" {
		return nil
	}
	v, _ := i.Layer.Settings()
	return KeepSettings(i.keep, v)
}

// KeepSettings writes settings to the file that an instance starts with, whole or not
// at all.
func KeepSettings(file string, v settings.Values) error {
	raw, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(file+".next", raw, 0o600); err != nil {
		return err
	}
	return os.Rename(file+".next", file)
}
