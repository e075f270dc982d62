package onboard

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"

	"tidemarker/internal/act"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/survey"
	"tidemarker/internal/store"
)

// The limits of a comparison of two environments.
const (
	mostCompared = 6  // pages whose files are compared
	mostAssets   = 80 // files of them
)

// Parity compares a site's staging with its production and keeps what differs:
// host, catalogue, values, pages, scripts and styles. What cannot be read is noted.
func (d *Desk) Parity(ctx context.Context, siteID int64, who string) error {
	row, err := d.Store.Site(ctx, siteID)
	if err != nil {
		return err
	}
	envs, err := d.Store.EnvironmentsByRole(ctx, siteID)
	if err != nil {
		return err
	}
	if envs.OnlyOne {
		return &act.NotPossible{Why: "the site has only one environment"}
	}
	doc := store.ParityDocument{Notes: []string{}}
	var sides []survey.Side
	for _, e := range []store.Environment{envs.Staging, envs.Production} {
		s, err := d.sideOf(ctx, row.Document.V, e, &doc)
		if err != nil {
			return err
		}
		sides = append(sides, s)
	}
	doc.Unlike = survey.Parity(sides[0], sides[1])
	if differ(doc.Unlike, "settings") && differ(doc.Unlike, "files") {
		doc.Notes = append(doc.Notes, "Values differ; scripts and styles may differ because of them.")
	}
	doc.Summary = survey.AlikeInWords(sides[0].Name, sides[1].Name, doc.Unlike)
	if err := d.Store.SaveParity(ctx, siteID, doc, who); err != nil {
		return err
	}
	return d.Store.Tell(ctx, store.Signal{Site: siteID})
}

func differ(list []survey.Unlike, what string) bool {
	return slices.ContainsFunc(list, func(u survey.Unlike) bool { return u.What == what })
}

func (d *Desk) sideOf(ctx context.Context, doc site.Site, e store.Environment, p *store.ParityDocument) (survey.Side, error) {
	s := survey.Side{Name: e.Name, Facts: map[string]string{}, Catalogue: map[string]string{}, Settings: map[string]string{}, Assets: map[string]string{}}
	note := func(format string, args ...any) { p.Notes = append(p.Notes, fmt.Sprintf(format, args...)) }
	env, found, err := d.Acts.Read(ctx, e.ID)
	if err != nil {
		note("The settings of %s could not be read: %v", e.Name, err)
	} else {
		readSide(&s, env, found.Values)
	}
	at, _, known := doc.Environment(e.Name)
	if !known {
		return s, fmt.Errorf("%s is not in the site's document", e.Name)
	}
	looking := &surveying{Desk: d, f: newFetcher(at)}
	if s.Pages, err = looking.listed(ctx); err != nil {
		note("The pages of %s were not compared: %v", e.Name, err)
	}
	assets := map[string]string{} // path → address
	for i, page := range doc.Pages {
		if i == mostCompared {
			break
		}
		if err := looking.assetsOf(ctx, page.Path, assets); err != nil {
			note("The files of %s on %s were not compared: %v", page.Path, e.Name, err)
		}
	}
	for path, address := range assets {
		res, body, err := looking.f.get(ctx, address)
		if err == nil && res.StatusCode != http.StatusOK {
			err = errors.New(res.Status)
		}
		if err != nil {
			s.Assets[path] = "not to be had"
			continue
		}
		sum := sha256.Sum256(body)
		s.Assets[path] = hex.EncodeToString(sum[:4])
	}
	return s, ctx.Err()
}

func readSide(s *survey.Side, env store.Environment, v settings.Values) {
	if about := env.About.V; about != nil {
		s.Facts["software"], s.Facts["hosting"], s.Facts["HTTP"] = about.Software, about.Facts.Hosting, about.Facts.HTTPVersion
		for ability, has := range about.Facts.Host().Facts {
			s.Facts[settings.Ability(ability)] = map[bool]string{true: "yes", false: "no"}[has]
		}
		for _, o := range about.Facts.OtherOptimisers {
			s.Facts["tool “"+o.Name+"”"] = "there"
		}
	}
	if env.Catalogue.V == nil {
		return
	}
	for _, d := range env.Catalogue.V.Settings {
		s.Catalogue[d.Key] = fmt.Sprintf("%s, %s", d.Type, d.Role)
		s.Settings[d.Key] = settings.Shown(v[d.Key])
	}
}

// assetsOf gathers the scripts and styles that a page asks the site's own hosts for, by
// path: a version in the query is told by the content, not by its number.
func (s *surveying) assetsOf(ctx context.Context, page string, into map[string]string) error {
	address := s.f.env.Address(page)
	_, body, err := s.f.get(ctx, address)
	if err != nil {
		return err
	}
	doc, err := goquery.NewDocumentFromReader(bytes.NewReader(body))
	if err != nil {
		return err
	}
	base, err := url.Parse(address)
	if err != nil {
		return err
	}
	doc.Find(`script[src], link[rel="stylesheet"][href]`).Each(func(_ int, el *goquery.Selection) {
		u, err := base.Parse(strings.TrimSpace(el.AttrOr("src", el.AttrOr("href", ""))))
		if err == nil && s.f.env.Owns(u) && len(into) < mostAssets {
			into[u.Path] = u.String()
		}
	})
	return nil
}
