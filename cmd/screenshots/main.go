// Command screenshots takes the pictures of the main views from a running demo.
//
//	go run ./cmd/screenshots -url http://127.0.0.1:8080 -out docs/screenshots
package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"log"
	"net/http"
	"net/http/cookiejar"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/browser"
)

func main() {
	base := flag.String("url", "http://127.0.0.1:8080", "address of the running demo")
	out := flag.String("out", "docs/screenshots", "folder to write to")
	only := flag.String("only", "", "name=path,… to take instead of the main views; a path may end in !night")
	name := flag.String("name", "Ada", "who signs in")
	password := flag.String("password", "spores at high water", "their password")
	flag.Parse()
	log.SetFlags(0)
	root := strings.TrimSuffix(*base, "/")
	cookie, err := signIn(root, *name, *password)
	if err != nil {
		log.Fatal(err)
	}
	shots, err := views(root)
	if *only != "" {
		shots, err = nil, nil
		for _, pair := range strings.Split(*only, ",") {
			name, path, _ := strings.Cut(pair, "=")
			shots = append(shots, shot{name: name, path: strings.TrimSuffix(path, "!night"), night: strings.HasSuffix(path, "!night")})
		}
	}
	if err != nil {
		log.Fatal(err)
	}
	if err := os.MkdirAll(*out, 0o755); err != nil {
		log.Fatal(err)
	}
	binary, err := browser.Find()
	if err != nil {
		log.Fatal(err)
	}
	l := browser.Launcher(binary)
	defer l.Cleanup()
	chromium := rod.New().ControlURL(l.MustLaunch()).MustConnect()
	defer chromium.MustClose()
	for _, s := range shots {
		if err := take(chromium, root, cookie, s, filepath.Join(*out, s.name+".png")); err != nil {
			log.Fatalf("%s: %v", s.name, err)
		}
		fmt.Println(filepath.Join(*out, s.name+".png"))
	}
}

type shot struct {
	name, path string
	night      bool
}

func take(b *rod.Browser, base string, cookie *http.Cookie, s shot, file string) error {
	private, err := b.Incognito()
	if err != nil {
		return err
	}
	page, err := private.Page(proto.TargetCreateTarget{URL: "about:blank"})
	if err != nil {
		return err
	}
	defer func() { _ = page.Close() }()
	page = page.Timeout(60 * time.Second)
	if err := page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: 1280, Height: 800, DeviceScaleFactor: 1}); err != nil {
		return err
	}
	night := "no"
	if s.night {
		night = "yes"
	}
	if _, err := page.EvalOnNewDocument(fmt.Sprintf(`localStorage.setItem("tide-marker-night", %q)`, night)); err != nil {
		return err
	}
	if s.path != "/sign-in" {
		if err := page.SetCookies([]*proto.NetworkCookieParam{{Name: cookie.Name, Value: cookie.Value, URL: base + "/"}}); err != nil {
			return err
		}
	}
	if err := page.Navigate(base + s.path); err != nil {
		return err
	}
	if _, err := page.Element("main h1"); err != nil {
		return err
	}
	settled := `() => !document.querySelector("[aria-busy=true]") && Array.from(document.images).every((i) => i.complete)`
	if err := page.Wait(rod.Eval(settled)); err != nil {
		return err
	}
	if err := page.WaitDOMStable(300*time.Millisecond, 0); err != nil {
		return err
	}
	if err := page.Wait(rod.Eval(settled)); err != nil {
		return err
	}
	raw, err := page.Screenshot(false, &proto.PageCaptureScreenshot{Format: proto.PageCaptureScreenshotFormatPng})
	if err != nil {
		return err
	}
	return os.WriteFile(file, raw, 0o644)
}

// views finds the main views in the demo's data by what they are, not by number.
func views(base string) ([]shot, error) {
	var list struct {
		Sites []struct{ ID int64 } `json:"sites"`
	}
	if err := get(base+"/api/v1/sites", &list); err != nil {
		return nil, err
	}
	if len(list.Sites) == 0 {
		return nil, fmt.Errorf("the demo has no site")
	}
	id := list.Sites[0].ID
	var site struct {
		Changes []struct {
			ID    int64
			State string
		}
	}
	if err := get(fmt.Sprintf("%s/api/v1/sites/%d", base, id), &site); err != nil {
		return nil, err
	}
	shots := []shot{
		{name: "notices", path: "/notices"},
		{name: "sites", path: "/"},
		{name: "rollout", path: "/rollouts/1"},
		{name: "site", path: fmt.Sprintf("/sites/%d", id)},
		{name: "test-plan", path: fmt.Sprintf("/sites/%d/test-plan", id)},
		{name: "settings", path: fmt.Sprintf("/sites/%d/settings", id)},
		{name: "history", path: fmt.Sprintf("/sites/%d/history", id)},
		{name: "visitors", path: fmt.Sprintf("/sites/%d/field", id)},
		{name: "calendar", path: "/calendar"},
		{name: "exclusions", path: fmt.Sprintf("/sites/%d/exclusions", id)},
	}
	taking, err := takeOn(base)
	if err != nil {
		return nil, err
	}
	shots = append(shots, shot{name: "add-site", path: fmt.Sprintf("/add-site/%d", taking)})
	second, watched, err := smallerChanges(base)
	if err != nil {
		return nil, err
	}
	shots = append(shots, shot{name: "step-up", path: fmt.Sprintf("/changes/%d", second)},
		shot{name: "watch", path: fmt.Sprintf("/changes/%d", watched), night: true}) // and how it looks at night
	for _, c := range site.Changes {
		more, err := changeViews(base, c.ID, c.State)
		if err != nil {
			return nil, err
		}
		shots = append(shots, more...)
	}
	return shots, nil
}

// smallerChanges are the change on the smaller site that came of a step-up, and one there that is watched.
func smallerChanges(base string) (steppedUp, watched int64, err error) {
	var list struct{ Sites []struct{ ID int64 } }
	if err := get(base+"/api/v1/sites?q=Quillet", &list); err != nil || len(list.Sites) == 0 {
		return 0, 0, errors.Join(err, errors.New("the demo has no second site"))
	}
	var site struct {
		Changes []struct {
			ID    int64
			State string
		}
	}
	if err := get(fmt.Sprintf("%s/api/v1/sites/%d", base, list.Sites[0].ID), &site); err != nil || len(site.Changes) == 0 {
		return 0, 0, errors.Join(err, errors.New("the second site has no change"))
	}
	for _, c := range site.Changes {
		if c.State == "marked" {
			return site.Changes[0].ID, c.ID, nil
		}
	}
	return 0, 0, errors.New("the second site has no change that is watched")
}

// takeOn begins to take the smaller site on, as if nobody had seen it.
func takeOn(base string) (int64, error) {
	var list struct {
		Sites []struct {
			ID   int64
			Name string
		}
	}
	if err := get(base+"/api/v1/sites?q=Quillet", &list); err != nil || len(list.Sites) == 0 {
		return 0, errors.Join(err, errors.New("the demo has no second site"))
	}
	var site struct {
		Environments []struct{ Name, URL string }
	}
	if err := get(fmt.Sprintf("%s/api/v1/sites/%d", base, list.Sites[0].ID), &site); err != nil {
		return 0, err
	}
	var places []map[string]any
	for _, e := range site.Environments {
		places = append(places, map[string]any{"name": e.Name, "url": e.URL, "kind": "http", "token": "env:QUILLET_TOKEN"})
	}
	var taking struct {
		ID     int64
		Survey struct{ State string }
	}
	if err := post(base+"/api/v1/onboardings", map[string]any{"name": "The hill", "environments": places}, &taking); err != nil {
		return 0, err
	}
	at := fmt.Sprintf("%s/api/v1/onboardings/%d", base, taking.ID)
	if err := post(at+"/survey", map[string]any{}, &taking); err != nil {
		return 0, err
	}
	for taking.Survey.State == "running" {
		time.Sleep(200 * time.Millisecond)
		if err := get(at, &taking); err != nil {
			return 0, err
		}
	}
	return taking.ID, nil
}

func post(url string, body, into any) error {
	raw, err := json.Marshal(body)
	if err != nil {
		return err
	}
	res, err := session.Post(url, "application/json", bytes.NewReader(raw))
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode >= 300 {
		return fmt.Errorf("%s answered %s", url, res.Status)
	}
	return json.NewDecoder(res.Body).Decode(into)
}

func changeViews(base string, id int64, state string) ([]shot, error) {
	var change struct {
		Runs []struct {
			ID            int64
			Kind, Verdict string
		}
	}
	if err := get(fmt.Sprintf("%s/api/v1/changes/%d", base, id), &change); err != nil {
		return nil, err
	}
	var shots []shot
	if state == "drafted" {
		shots = append(shots, shot{name: "change", path: fmt.Sprintf("/changes/%d", id)})
	}
	for _, r := range change.Runs {
		if r.Kind == "culprit search" {
			shots = append(shots, shot{name: "culprit", path: fmt.Sprintf("/runs/%d", r.ID)})
		}
		if r.Kind == "measure" {
			shots = append(shots, shot{name: "measured-page", path: fmt.Sprintf("/runs/%d/pages?page=/kits", r.ID)})
			shots = append(shots, shot{name: "measure", path: fmt.Sprintf("/runs/%d", r.ID)})
		}
		if r.Verdict != "broken" || state != "rolled back" {
			continue
		}
		shots = append(shots, shot{name: "check-broken", path: fmt.Sprintf("/runs/%d", r.ID)})
		var run struct {
			Findings []struct {
				ID             int64
				Kind, Severity string
			}
		}
		if err := get(fmt.Sprintf("%s/api/v1/runs/%d", base, r.ID), &run); err != nil {
			return nil, err
		}
		for _, f := range run.Findings {
			if f.Kind == "picture" && f.Severity == "broken" {
				at := fmt.Sprintf("/runs/%d?finding=%d", r.ID, f.ID)
				return append(shots, shot{name: "pictures", path: at}), nil
			}
		}
	}
	return shots, nil
}

// session keeps the cookie of whoever signed in.
var session http.Client

func signIn(base, name, password string) (*http.Cookie, error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	session.Jar = jar
	raw, err := json.Marshal(map[string]string{"name": name, "password": password})
	if err != nil {
		return nil, err
	}
	res, err := session.Post(base+"/api/v1/session", "application/json", bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	for _, c := range res.Cookies() {
		if strings.HasSuffix(c.Name, "tidemarker") { // beside it the one by which a browser is known
			return c, nil
		}
	}
	return nil, fmt.Errorf("%s could not sign in: %s", name, res.Status)
}

func get(url string, into any) error {
	res, err := session.Get(url)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return fmt.Errorf("%s answered %s", url, res.Status)
	}
	return json.NewDecoder(res.Body).Decode(into)
}
