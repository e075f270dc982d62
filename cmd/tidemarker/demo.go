package main

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/HugoSmits86/nativewebp"
	"github.com/spf13/cobra"

	"tidemarker/internal/api"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/visual"
	"tidemarker/internal/outbox"
	"tidemarker/internal/post"
	"tidemarker/internal/standin"
	"tidemarker/internal/standin/origin"
	"tidemarker/internal/store"
)

// demo is the invented shop with its record of work, for looking at.
type demo struct {
	app       *app
	folder    string // of the site file and the recorded archive
	data      string
	instances []*standin.Instance
	outbox    *outbox.Outbox // where the stagings' mail and payments go
}

// demoSites are the invented sites, each with the variable of its token, its file and
// its usual ports.
var demoSites = []struct {
	name, variable, token string
	site                  func() standin.Site
	ports                 map[string]string
}{
	{"fernhollow", "FERNHOLLOW_TOKEN", "fernhollow", standin.Fernhollow, map[string]string{"staging": "9101", "production": "9102"}},
	{"quillet", "QUILLET_TOKEN", "quillet", standin.Quillet, map[string]string{"staging": "9111", "production": "9112"}},
}

func demoCommand(data *string) *cobra.Command {
	var listen, folder, record string
	c := &cobra.Command{
		Use: "demo", Short: "Runs the invented shop Fernhollow and Tide Marker with a record of work done on it", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if _, err := (&address{listen: listen}).url(); err != nil {
				return err
			}
			from := os.Getenv(variablesVariable)
			for _, s := range demoSites {
				if err := os.Setenv(s.variable, s.token); err != nil {
					return err
				}
				from += " " + s.variable
			}
			if err := os.Setenv(variablesVariable, from); err != nil {
				return err
			}
			a, err := open(cmd.Context(), *data)
			if err != nil {
				return err
			}
			defer a.close()
			d := &demo{app: a, folder: folder, data: *data}
			defer d.close()
			return d.run(cmd.Context(), freeUnlessGiven(listen, cmd.Flags().Changed("listen")), record, cmd.OutOrStdout().Write)
		},
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:8080", "loopback address to listen on; another port is taken when this one is not free")
	c.Flags().StringVar(&folder, "folder", "demo", "folder of the site file and the recorded work")
	c.Flags().StringVar(&record, "record", "", "make the record again by really doing the work, write it to this folder, and end")
	return c
}

// freeUnlessGiven is the address asked for, or one with a free port when the usual
// port is taken.
func freeUnlessGiven(addr string, given bool) string {
	if given {
		return addr
	}
	l, err := net.Listen("tcp", addr)
	if err != nil {
		return "127.0.0.1:0"
	}
	_ = l.Close()
	return addr
}

func (d *demo) run(ctx context.Context, listen, record string, write func([]byte) (int, error)) error {
	say := func(format string, args ...any) { _, _ = write([]byte(fmt.Sprintf(format, args...))) }
	if record != "" {
		d.app.runner.Tools.Blobs = smaller{d.app.store}
	}
	recorded := false
	_, total, err := d.app.store.Sites(ctx, "", 1, 0)
	if err != nil {
		return err
	}
	if total == 0 && record == "" {
		if recorded, err = d.load(ctx); err != nil {
			return err
		}
	} else {
		recorded = total > 0
	}
	if d.outbox, err = outbox.Start(outbox.Options{Mail: freeUnlessGiven("127.0.0.1:9125", false), Web: freeUnlessGiven("127.0.0.1:9121", false), Key: rand.Text()}); err != nil {
		return err
	}
	if d.app.mail, err = post.NewServer("smtp://"+d.outbox.MailAddr, "Tide Marker <tidemarker@marker.example>"); err != nil {
		return err
	}
	for i := range demoSites {
		if err := d.start(ctx, i); err != nil {
			return err
		}
	}
	serving, stop := context.WithCancel(ctx)
	defer stop()
	if err := d.letPeopleIn(ctx); err != nil {
		return err
	}
	var failed error
	err = d.app.serve(serving, listen, nil, false, timing{readEvery: time.Minute}, func(url string) {
		say("\nTide Marker   %s\n", url)
		for _, i := range d.instances {
			say("%-13s %s/ (%s)\n", i.Environment, i.URL, i.Site)
		}
		say("%-13s %s/ (mail and payments of staging, and our own notices)\n", "outbox", d.outbox.URL)
		say("\nSign in as    one of these, with the password %q\n", demoPassword)
		for _, p := range demoPeople {
			say("              %-9s %s\n", p.name, p.role)
		}
		say("End with Ctrl-C.\n")
		switch {
		case record != "":
			go func() { defer stop(); failed = d.record(serving, url, record) }()
		case !recorded:
			say("The record of work is being made now by really doing it; watch it under the address above.\n")
			go func() {
				if err := tell(serving, url); err != nil && serving.Err() == nil {
					d.app.log.Warn("the demo's work could not be done", "why", err)
				}
			}()
		}
	})
	return errors.Join(err, failed)
}

// demoPeople can sign in to the demo.
var demoPeople = []struct {
	name string
	role people.Role
}{{"Ada", people.Administrator}, {"Vera", people.Approver}, {"Marin", people.Maintainer}, {"Otto", people.Observer}}

const demoPassword = "spores at high water"

// letPeopleIn puts the demo's people in.
func (d *demo) letPeopleIn(ctx context.Context) error {
	hash, err := api.HashPassword(demoPassword)
	if err != nil {
		return err
	}
	for _, p := range demoPeople {
		id, err := d.app.store.AddPerson(ctx, p.name, hash, p.role)
		if errors.Is(err, store.ErrNameTaken) {
			continue
		}
		if err == nil {
			err = d.app.store.SaveReach(ctx, id, store.Reach{Mail: strings.ToLower(p.name) + "@fernhollow.example", DailyAt: "08:00", Zone: "UTC"})
		}
		if err != nil {
			return err
		}
	}
	return d.hook(ctx)
}

// hook has notices sent to the outbox, whose address is another each time.
func (d *demo) hook(ctx context.Context) error {
	hooks, err := d.app.store.Webhooks(ctx)
	if err != nil {
		return err
	}
	for _, w := range hooks {
		if w.MadeBy == demoMaker {
			w.Address = d.outbox.HookURL("team")
			_, err := d.app.store.EditWebhook(ctx, w, w.Version)
			return err
		}
	}
	_, err = d.app.store.NewWebhook(ctx, store.Webhook{Address: d.outbox.HookURL("team"), Secret: post.NewSecret(), MadeBy: demoMaker})
	return err
}

// demoMaker made what the demo comes with.
const demoMaker = "the demo"

func (d *demo) close() {
	for _, i := range d.instances {
		_ = i.Close()
	}
	if d.outbox != nil {
		_ = d.outbox.Close()
	}
}

func (d *demo) keepFile(site, env string) string {
	return filepath.Join(d.data, site+"-"+env+".json")
}

// start runs a site's environments, under their usual ports when those are free, and
// registers the site with the addresses that they really have.
func (d *demo) start(ctx context.Context, n int) error {
	s := demoSites[n]
	raw, err := os.ReadFile(filepath.Join(d.folder, s.name+".yaml"))
	if err != nil {
		return fmt.Errorf("read the demo's site file: %w. Run it from the project's folder, or name the folder with --folder", err)
	}
	doc, err := site.Parse(raw)
	if err != nil {
		return err
	}
	for i, e := range doc.Environments {
		opt := standin.Options{Environment: e.Name, Addr: freeUnlessGiven("127.0.0.1:"+s.ports[e.Name], false), Token: s.token, Keep: d.keepFile(s.name, e.Name)}
		if e.Role == site.Staging {
			opt.Desk = origin.Desk{Mail: d.outbox.MailAddr, Pay: d.outbox.URL, Key: d.outbox.Key()}
		}
		inst, err := standin.Start(s.site(), opt)
		if err != nil {
			return err
		}
		d.instances = append(d.instances, inst)
		doc.Environments[i].URL, doc.Environments[i].Connector.URL, doc.Environments[i].Hosts = inst.URL, inst.ConnectorURL(), []string{inst.OtherHost}
		if e.Role == site.Staging {
			doc.Environments[i].Hosts = append(doc.Environments[i].Hosts, strings.TrimPrefix(d.outbox.URL, "http://"))
			doc.Environments[i].Outbox = d.outbox.URL
		}
	}
	_, err = d.app.store.SaveSite(ctx, doc, false, d.app.who)
	return err
}

// partSize keeps each file of the recorded archive small.
const partSize = 3 << 20

// load reads the recorded work, and gives the environments the settings that they had
// when it was recorded. It reports whether there was any.
func (d *demo) load(ctx context.Context) (bool, error) {
	parts, err := filepath.Glob(filepath.Join(d.folder, "record.zip.*"))
	if err != nil || len(parts) == 0 {
		return false, err
	}
	slices.Sort(parts)
	var whole bytes.Buffer
	for _, p := range parts {
		raw, err := os.ReadFile(p)
		if err != nil {
			return false, err
		}
		whole.Write(raw)
	}
	if err := d.app.store.Import(ctx, whole.Bytes()); err != nil {
		return false, fmt.Errorf("the demo's record: %w", err)
	}
	if _, err := d.app.store.SealUnsealed(ctx); err != nil {
		return false, err
	}
	if err := d.app.store.AsIfNow(ctx); err != nil {
		return false, err
	}
	if err := makeVisits(ctx, d.app.store, time.Now()); err != nil {
		return false, fmt.Errorf("make up page views: %w", err)
	}
	sites, _, err := d.app.store.Sites(ctx, "", 10, 0)
	if err != nil || len(sites) == 0 {
		return false, err
	}
	for _, s := range sites {
		envs, err := d.app.store.Environments(ctx, s.ID)
		if err != nil {
			return false, err
		}
		file, _, _ := strings.Cut(strings.ToLower(s.Name), " ")
		for _, e := range envs {
			v, err := d.app.store.Revision(ctx, e.SiteID, e.Fingerprint)
			if errors.Is(err, store.ErrNotFound) {
				continue // it was never read
			}
			if err != nil {
				return false, err
			}
			if err := standin.KeepSettings(d.keepFile(file, e.Name), settings.Values(v)); err != nil {
				return false, err
			}
		}
	}
	return true, nil
}

// record does the work and writes it down.
func (d *demo) record(ctx context.Context, url, folder string) error {
	if err := tell(ctx, url); err != nil {
		return err
	}
	if _, err := d.app.store.Unseal(ctx); err != nil { // made up, and sealed again with each demo's own key
		return err
	}
	var whole bytes.Buffer
	if err := d.app.store.Export(ctx, &whole); err != nil {
		return err
	}
	old, err := filepath.Glob(filepath.Join(folder, "record.zip.*"))
	if err != nil {
		return err
	}
	for _, p := range old {
		if err := os.Remove(p); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	for n := 0; whole.Len() > 0; n++ {
		if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("record.zip.%02d", n)), whole.Next(partSize), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// trimmed is an address without the slash at its end.
func trimmed(url string) string { return strings.TrimSuffix(url, "/") }

// smaller keeps pictures in fewer bytes, for which it takes longer.
type smaller struct{ store.Blobs }

// Put keeps bytes; a PNG picture is kept as lossless WebP where that can be read back as it was:
// the encoder has written pictures that no decoder takes.
func (s smaller) Put(ctx context.Context, mediaType string, raw []byte) (string, error) {
	if mediaType == "image/png" {
		m, err := visual.Decode(raw)
		if err != nil {
			return "", err
		}
		var out bytes.Buffer
		if err := nativewebp.Encode(&out, m, nil); err != nil {
			return "", fmt.Errorf("write a picture as WebP: %w", err)
		}
		if back, err := visual.Decode(out.Bytes()); err == nil && back.Rect == m.Rect && bytes.Equal(back.Pix, m.Pix) {
			mediaType, raw = "image/webp", out.Bytes()
		}
	}
	return s.Blobs.Put(ctx, mediaType, raw)
}
