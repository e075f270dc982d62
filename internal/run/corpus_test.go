package run_test

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/act"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/inspect"
	"tidemarker/internal/outbox"
	"tidemarker/internal/run"
	"tidemarker/internal/speedlayer/kinds"
	"tidemarker/internal/standin"
	"tidemarker/internal/standin/origin"
	"tidemarker/internal/standin/sedge"
	"tidemarker/internal/testdb"
)

// corpusCase is a change and what it does, as testdata/corpus.yaml has it.
type corpusCase struct {
	Site    string          `yaml:"site"`
	Name    string          `yaml:"name"`
	Edits   settings.Values `yaml:"edits"`
	Verdict string          `yaml:"verdict"`
	At      struct {
		Page    string `yaml:"page"`
		Persona string `yaml:"persona"`
		Device  string `yaml:"device"`
		Journey bool   `yaml:"journey"` // seen while a journey is taken, wherever it stops
	} `yaml:"at"`
	Cause   string          `yaml:"cause"`
	Culprit []string        `yaml:"culprit"`
	Exclude settings.Values `yaml:"exclude"`
}

type corpus struct {
	Broken   []corpusCase               `yaml:"broken"`
	Harmless []corpusCase               `yaml:"harmless"`
	Riders   map[string]settings.Values `yaml:"riders"`
}

// readCorpus reads the cases and adds those that follow: what breaks something among riders,
// what it is with its exclusions, and harmless changes two at a time.
func readCorpus(t *testing.T) (broken, harmless []corpusCase) {
	t.Helper()
	c := readCases(t)
	broken, harmless = c.Broken, c.Harmless
	for _, x := range c.Broken {
		if x.Exclude != nil {
			mended := x
			mended.Name, mended.Edits = x.Name+", with its exclusions", x.Edits.With(x.Exclude)
			harmless = append(harmless, mended)
		}
		among := x
		among.Name, among.Edits = x.Name+", among others", c.Riders[x.Site].With(x.Edits)
		broken = append(broken, among)
	}
	for i, x := range c.Harmless {
		y := c.Harmless[(i+7)%len(c.Harmless)]
		if x.Site == y.Site && i%2 == 0 {
			both := x
			both.Name, both.Edits = x.Name+" and "+y.Name, x.Edits.With(y.Edits)
			harmless = append(harmless, both)
		}
	}
	return broken, harmless
}

// readCases reads the cases as they are written down.
func readCases(t *testing.T) corpus {
	t.Helper()
	raw, err := os.ReadFile("testdata/corpus.yaml")
	require.NoError(t, err)
	var c corpus
	require.NoError(t, yaml.UnmarshalWithOptions(raw, &c, yaml.Strict()))
	return c
}

// liveBench is a stand-in that lives, with a mark to compare with.
type liveBench struct{ *bench }

// liveSite starts the staging of a stand-in as the demo has it, with an outbox, marks it, and
// lets strangers place orders as long as the test goes on. trim makes less of the site's document.
func liveSite(t *testing.T, which standin.Site, file string, trim ...func(*site.Site)) *liveBench {
	t.Helper()
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	doc, err := site.Parse(raw)
	require.NoError(t, err)
	o, err := outbox.Start(outbox.Options{Mail: "127.0.0.1:0", Web: "127.0.0.1:0", Key: "tide"})
	require.NoError(t, err)
	t.Cleanup(func() { _ = o.Close() })
	inst, err := standin.Start(which, standin.Options{Environment: "staging", Addr: "127.0.0.1:0", Token: "secret", Desk: origin.Desk{Mail: o.MailAddr, Pay: o.URL, Key: "tide"}})
	require.NoError(t, err)
	t.Cleanup(func() { _ = inst.Close() })
	doc.Environments = []site.Environment{{Name: "staging", URL: inst.URL, Hosts: []string{inst.OtherHost, strings.TrimPrefix(o.URL, "http://")}, Outbox: o.URL,
		Connector: &site.Connector{Kind: "http", URL: inst.ConnectorURL(), Token: "secret"}}}
	if which.Name == standin.Quillet().Name {
		doc.Pages = append(doc.Pages, site.Page{Path: "/evenings?month=march", Class: "listing", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}})
	}
	for _, f := range trim {
		f(&doc)
	}
	st, _ := testdb.New(t)
	g := &liveBench{&bench{T: t, store: st, staging: inst}}
	quiet := slog.New(slog.DiscardHandler)
	g.runner, err = run.New(&act.Acts{Store: st, Kinds: kinds.All, Log: quiet}, &inspect.Tools{Blobs: st, Browser: chromium}, quiet)
	require.NoError(t, err)
	g.site, err = st.SaveSite(t.Context(), doc, false, "tester")
	require.NoError(t, err)
	g.envs, err = st.Environments(t.Context(), g.site.ID)
	require.NoError(t, err)
	g.mark(0)
	if which.Name == standin.Fernhollow().Name {
		g.live(inst.URL)
	}
	return g
}

// grounds gives the live stand-ins by name, each marked when it is first asked for. trim makes less of their documents.
func grounds(t *testing.T, trim ...func(*site.Site)) func(name string) *liveBench {
	t.Helper()
	sites := map[string]*liveBench{}
	return func(name string) *liveBench {
		if sites[name] == nil {
			switch name {
			case "sedge":
				sites[name] = liveSite(t, standin.Sedge(), "testdata/sedge.yaml", trim...)
			case "quillet":
				sites[name] = liveSite(t, standin.Quillet(), "../../demo/quillet.yaml", trim...)
			default:
				sites[name] = liveSite(t, standin.Fernhollow(), "../../demo/fernhollow.yaml", trim...)
			}
		}
		return sites[name]
	}
}

// live places an order every few seconds until the test is over.
func (g *liveBench) live(address string) {
	ctx, stop := context.WithCancel(context.Background())
	var over sync.WaitGroup
	over.Go(func() {
		tick := time.NewTicker(4 * time.Second)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				_ = orderOnce(ctx, address) // a page that a change has broken takes none
			}
		}
	})
	g.Cleanup(func() { stop(); over.Wait() })
}

// corpusResult is what a run said of a case.
type corpusResult struct {
	noticed, place, cause, one bool
	said                       string
}

func (g *liveBench) judge(c corpusCase) corpusResult {
	r, found := g.try(c.Edits)
	var out corpusResult
	out.noticed = r.Verdict != evidence.VerdictClear
	causes, shown := map[string]bool{}, map[string]bool{}
	for _, f := range found {
		if f.Severity == evidence.Note {
			continue
		}
		if f.Kind != evidence.NotCheckedKind { // what could not be done here is told beside the cause
			causes[f.Cause] = true
			about := f.Cause
			if f.Control != nil {
				about += " (" + f.Control.Text + ")"
			}
			shown[about] = true
		}
		here := f.Page == c.At.Page && f.Persona == c.At.Persona && f.Device == c.At.Device
		out.place = out.place || here || c.At.Journey && f.Journey != "" && f.Persona == c.At.Persona && f.Device == c.At.Device
	}
	if len(found) > 0 {
		out.cause = strings.Contains(found[0].Title+" "+found[0].Cause, c.Cause)
		out.said = found[0].Title + " | "
	}
	out.one = len(causes) == 1
	if !out.one {
		out.said += strings.Join(slices.Sorted(maps.Keys(shown)), " + ") + " | "
	}
	if c.Verdict != "" {
		out.noticed = out.noticed && string(r.Verdict) != "clear"
	} else {
		out.noticed = r.Verdict == evidence.VerdictBroken
	}
	out.said += fmt.Sprintf("%s, %d causes: %s %v", r.Verdict, len(causes), r.Summary, r.Progress.V.Spent)
	return out
}

// TestFaultsOfTheCorpus tries changes of which it is known what they do, while the site lives.
// In short it tries some; TIDEMARKER_CORPUS=all tries them all, and prints what it said of each;
// words, apart by semicolons, choose those that have one of them in their names.
func TestFaultsOfTheCorpus(t *testing.T) {
	broken, harmless := readCorpus(t)
	require.GreaterOrEqual(t, len(broken), 60)
	require.GreaterOrEqual(t, len(harmless), 60)
	which := os.Getenv("TIDEMARKER_CORPUS")
	if !sedge.Installed() {
		t.Log("python3-django is not installed, so that the Sedge Archive is left out; make corpus installs it")
		without := func(c corpusCase) bool { return c.Site == "sedge" }
		broken, harmless = slices.DeleteFunc(broken, without), slices.DeleteFunc(harmless, without)
	}
	pick := func(list []corpusCase, names ...string) []corpusCase {
		switch which {
		case "all", "harmless":
			return list
		case "plain": // without what follows from others
			return slices.DeleteFunc(slices.Clone(list), func(c corpusCase) bool {
				return strings.HasSuffix(c.Name, ", among others") || strings.Contains(c.Name, " and ")
			})
		case "":
			return slices.DeleteFunc(slices.Clone(list), func(c corpusCase) bool { return !slices.Contains(names, c.Site+": "+c.Name) })
		}
		any := strings.Split(which, ";")
		return slices.DeleteFunc(slices.Clone(list), func(c corpusCase) bool {
			return !slices.ContainsFunc(any, func(words string) bool { return strings.Contains(c.Site+": "+c.Name, words) })
		})
	}
	broken = pick(broken, "quillet: scripts deferred past the code that needs them, among others")
	harmless = pick(harmless, "quillet: scripts deferred past the code that needs them, with its exclusions")
	if which == "harmless" { // alone, without what follows from others
		which = "plain"
		broken, harmless = nil, pick(harmless)
	}
	at := grounds(t, func(doc *site.Site) {
		if which == "" { // some pages, each on one device
			doc.Pages = doc.Pages[:4]
			for i := range doc.Pages {
				doc.Pages[i].Devices = doc.Pages[i].Devices[:1]
			}
		}
	})
	var noticed, placed, caused, one int
	var wrong []string
	for _, c := range broken {
		r := at(c.Site).judge(c)
		t.Logf("%-12s %-75s noticed %-5v place %-5v cause %-5v one %-5v %s", c.Site, c.Name, r.noticed, r.place, r.cause, r.one, r.said)
		for n, ok := range map[*int]bool{&noticed: r.noticed, &placed: r.place, &caused: r.cause, &one: r.one} {
			if ok {
				*n++
			}
		}
		if !r.noticed || !r.place {
			wrong = append(wrong, c.Site+": "+c.Name+": "+r.said)
		}
	}
	falsely := 0
	for _, c := range harmless {
		r, found := at(c.Site).try(c.Edits)
		if r.Verdict != evidence.VerdictClear {
			falsely++
			wrong = append(wrong, c.Site+": "+c.Name+": "+r.Summary)
		}
		title := ""
		if len(found) > 0 {
			title = found[0].Title
		}
		t.Logf("%-12s %-75s %s %s %v", c.Site, c.Name, r.Verdict, title, r.Progress.V.Spent)
		for _, f := range found {
			if f.Severity != evidence.Note {
				t.Logf("%-12s   %s %s %s: %s %+v", "", f.Page, f.Persona, f.Device, f.Title+" "+f.Detail, f.Region)
			}
		}
	}
	t.Logf("broken %d: noticed %d, right place %d, right cause first %d, one cause %d; harmless %d: called something %d", len(broken), noticed, placed, caused, one, len(harmless), falsely)
	assert.Equal(t, len(broken), noticed, strings.Join(wrong, "\n"))
	assert.GreaterOrEqual(t, placed*100, len(broken)*98, strings.Join(wrong, "\n"))
	assert.GreaterOrEqual(t, caused*100, len(broken)*90)
	assert.LessOrEqual(t, falsely*100, len(harmless), strings.Join(wrong, "\n"))
}
