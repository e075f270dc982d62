package inspect

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/prediction"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// Predicted is what a change will do to an environment, by its mark.
type Predicted struct {
	Predictions []prediction.Prediction
	Pages       int // looks of the mark that it was read off
	Unread      int // looks of which it was not kept what they were made of
}

// Predict says what settings will do to an environment from what its mark's pages were made of; the
// site is not asked for anything. before are the settings of the mark.
func Predict(ctx context.Context, st *store.Store, blobs store.Blobs, env store.Environment, look evidence.Look, cat settings.Catalogue, before, after settings.Values) (Predicted, error) {
	row, err := st.Site(ctx, env.SiteID)
	if err != nil {
		return Predicted{}, err
	}
	at, _, known := row.Document.V.Environment(env.Name)
	if !known {
		return Predicted{}, fmt.Errorf("the site's document no longer has an environment %q", env.Name)
	}
	var out Predicted
	ground, err := out.ground(ctx, blobs, at, look)
	if err != nil {
		return Predicted{}, err
	}
	out.Predictions = prediction.Predict(cat, before, after, ground)
	said, err := contradictions(ctx, st, env.ID, cat, before, after)
	if err != nil {
		return Predicted{}, err
	}
	for _, f := range said {
		if f.Severity == evidence.Note {
			continue
		}
		out.Predictions = append(out.Predictions, prediction.Prediction{Key: keyOf(cat, before, after), Kind: prediction.Contradict, About: f.Part, Title: f.Title, Why: f.Detail,
			Sure: f.Severity == evidence.Broken, Places: []prediction.Place{{Page: f.Page, Persona: f.Persona, Device: f.Device}}, Exclude: []prediction.Exclude{}})
	}
	for i, p := range out.Predictions {
		d, _ := cat.Find(p.Key)
		out.Predictions[i].Setting = d.Title
	}
	return out, nil
}

// keyOf is the setting of a change that a contradiction is about: of those that say who is served
// what from the cache, the first that changes.
func keyOf(cat settings.Catalogue, before, after settings.Values) string {
	for _, d := range cat.Settings {
		for _, begins := range []string{"page-cache", "path-exclude", "cookie-exclude", "role-exclude", "agent-exclude", "query-", "always-refresh"} {
			if strings.HasPrefix(string(d.Role), begins) && !settings.Equal(before[d.Key], after[d.Key]) {
				return d.Key
			}
		}
	}
	return ""
}

// ground reads what the pages of a look were made of. Each file is read once.
func (out *Predicted) ground(ctx context.Context, blobs store.Blobs, env site.Environment, look evidence.Look) (prediction.Ground, error) {
	g := prediction.Ground{Hosts: env.Hosts}
	if u, err := url.Parse(env.URL); err == nil {
		g.Hosts = append([]string{u.Host}, g.Hosts...)
	}
	kept := map[string][]byte{}
	read := func(sha string) ([]byte, error) {
		if raw, known := kept[sha]; known || sha == "" {
			return raw, nil
		}
		b, err := blobs.Get(ctx, sha)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		kept[sha] = b.Bytes
		return b.Bytes, nil
	}
	var reading prediction.Reading
	for _, p := range look.Pages {
		if p.Source == nil || p.Missing != "" {
			out.Unread++
			continue
		}
		document, err := read(p.Source.Document)
		if err != nil {
			return g, err
		}
		if len(document) == 0 {
			out.Unread++
			continue
		}
		var failed error
		page, err := reading.Page(p, document, func(address string) []byte {
			raw, err := read(p.Source.Files[address])
			failed = errors.Join(failed, err)
			return raw
		}, env.Owns)
		if err := errors.Join(err, failed); err != nil {
			return g, fmt.Errorf("read what %s was made of: %w", p.Page, err)
		}
		out.Pages++
		g.Pages = append(g.Pages, page)
	}
	return g, nil
}

// predict says what the settings in force will do, before anything is looked at; nil when they are
// the mark's, or nothing can be read off it.
func (r *Inspection) predict(ctx context.Context) (*Predicted, error) {
	if r.Compared == nil {
		return nil, nil
	}
	env, err := r.Store.Environment(ctx, r.EnvID)
	if err != nil {
		return nil, err
	}
	seen, err := Predict(ctx, r.Store, r.Blobs, env, r.Base.Look, r.Catalogue, r.Compared, r.Values)
	if err != nil || seen.Pages == 0 {
		return nil, err
	}
	return &seen, nil
}

// holdPredicted holds what was predicted against what was found.
func (r *Inspection) holdPredicted(ctx context.Context, seen *Predicted, found []evidence.Finding) error {
	if seen == nil {
		return nil
	}
	look, err := r.Store.Look(ctx, r.Run, 1)
	if err != nil {
		return err
	}
	var looked []evidence.Key
	for _, p := range look.Pages {
		if p.Missing == "" {
			looked = append(looked, p.Key)
		}
	}
	return r.Store.SavePredicted(ctx, r.Run, prediction.Hold(seen.Predictions, found, looked))
}

// NothingToPredict says why nothing can be predicted of an environment.
type NothingToPredict struct{ Why string }

func (e *NothingToPredict) Error() string { return e.Why }

// PredictValues says what a complete set of values will do to an environment, by its newest mark.
func PredictValues(ctx context.Context, st *store.Store, blobs store.Blobs, env store.Environment, after settings.Values) (Predicted, store.Mark, error) {
	m, err := st.LatestMark(ctx, env.ID)
	if errors.Is(err, store.ErrNotFound) || err == nil && env.Catalogue.V == nil {
		return Predicted{}, m, &NothingToPredict{"There is no mark of " + env.Name + " yet. Take one first: what its pages are made of is read then."}
	}
	if err != nil {
		return Predicted{}, m, err
	}
	base, err := st.Baseline(ctx, m)
	if err != nil {
		return Predicted{}, m, err
	}
	before, err := st.Revision(ctx, env.SiteID, m.Fingerprint)
	if err != nil {
		return Predicted{}, m, err
	}
	out, err := Predict(ctx, st, blobs, env, base.Look, *env.Catalogue.V, before, after)
	if err == nil && out.Pages == 0 {
		err = &NothingToPredict{fmt.Sprintf("Mark %d of %s was taken before the files of pages were recorded. Take a new one.", m.ID, env.Name)}
	}
	return out, m, err
}

// Edited are the values that an environment has, as far as they are recorded, with edits.
func Edited(ctx context.Context, st *store.Store, env store.Environment, edits settings.Values) (settings.Values, error) {
	if env.Catalogue.V == nil || env.Fingerprint == "" {
		return nil, &NothingToPredict{"The settings of " + env.Name + " have not been read yet. Take a mark first."}
	}
	now, err := st.Revision(ctx, env.SiteID, env.Fingerprint)
	if err != nil {
		return nil, err
	}
	after := now.With(edits)
	return after, env.Catalogue.V.Validate(after)
}
