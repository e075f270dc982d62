package store

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"github.com/jmoiron/sqlx"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/site"
	"tidemarker/internal/secret"
)

// Reveal is the token of an environment.
func (s *Store) Reveal(e Environment) (string, error) {
	token, err := s.keys.Open(e.Token)
	if err != nil {
		return "", fmt.Errorf("the token of %s: %w", e.Name, err)
	}
	return token, nil
}

func (s *Store) sealSite(doc site.Site) (site.Site, error) { return doc.MapSecrets(s.keys.Seal) }
func (s *Store) openSite(doc site.Site) (site.Site, error) { return doc.MapSecrets(s.keys.Open) }

// opened is a row with its secret values open.
func (s *Store) opened(row Site, err error) (Site, error) {
	if err == nil {
		row.Document.V, err = s.openSite(row.Document.V)
	}
	return row, err
}

func (s *Store) openSites(list []Site) (err error) {
	for i := range list {
		if list[i], err = s.opened(list[i], nil); err != nil {
			return err
		}
	}
	return nil
}

// mapOnboarding gives the secrets of a site that is being added to f.
func mapOnboarding(doc *OnboardingDocument, tokens *map[string]string, f func(string) (string, error)) error {
	looks, err := doc.Looks().MapSecrets(f)
	if err != nil {
		return err
	}
	doc.SetLooks(looks)
	*tokens = maps.Clone(*tokens)
	for _, name := range slices.Sorted(maps.Keys(*tokens)) {
		if (*tokens)[name], err = f((*tokens)[name]); err != nil {
			return fmt.Errorf("the token of %s: %w", name, err)
		}
	}
	return nil
}

func (s *Store) sealOnboarding(doc *OnboardingDocument, tokens *map[string]string) error {
	return mapOnboarding(doc, tokens, s.keys.Seal)
}

func (s *Store) openOnboarding(t *Onboarding) error {
	return mapOnboarding(&t.Document.V, &t.Tokens.V, s.keys.Open)
}

// SealUnsealed seals what was kept before there were keys, and says of how many sites and environments that was.
func (s *Store) SealUnsealed(ctx context.Context) (int, error) {
	return s.mapSecrets(ctx, func(text string) (string, error) {
		if secret.Sealed(text) {
			return text, nil
		}
		return s.keys.Seal(text)
	})
}

// Reseal seals everything with the first key, whichever sealed it, and says of how many sites and environments.
func (s *Store) Reseal(ctx context.Context) (int, error) { return s.mapSecrets(ctx, s.keys.Seal) }

// Unseal opens everything, and leaves it open: for data that is made up and goes out.
func (s *Store) Unseal(ctx context.Context) (int, error) { return s.mapSecrets(ctx, s.keys.Open) }

// mapSecrets writes all secrets as f makes them, all of them or none, and says in how many rows something changed. Long because
// the tables that hold secrets are gone through one after the other.
func (s *Store) mapSecrets(ctx context.Context, f func(string) (string, error)) (n int, err error) {
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		changed := false
		noting := func(text string) (string, error) {
			to, err := f(text)
			changed = changed || to != text
			return to, err
		}
		save := func(query string, args ...any) error {
			if !changed {
				return nil
			}
			changed = false
			n++
			_, err := tx.ExecContext(ctx, query, args...)
			return err
		}
		var sites []Site
		if err := tx.SelectContext(ctx, &sites, `SELECT `+columns[Site]("")+` FROM sites ORDER BY id FOR UPDATE`); err != nil {
			return err
		}
		for _, row := range sites {
			doc, err := row.Document.V.MapSecrets(noting)
			if err == nil {
				err = save(`UPDATE sites SET document = $2 WHERE id = $1`, row.ID, JSON[site.Site]{doc})
			}
			if err != nil {
				return fmt.Errorf("%s: %w", row.Name, err)
			}
		}
		var envs []Environment
		if err := tx.SelectContext(ctx, &envs, `SELECT `+columns[Environment]("")+` FROM environments ORDER BY id FOR UPDATE`); err != nil {
			return err
		}
		for _, e := range envs {
			token, err := noting(e.Token)
			if err == nil {
				err = save(`UPDATE environments SET token = $2 WHERE id = $1`, e.ID, token)
			}
			if err != nil {
				return fmt.Errorf("the token of %s: %w", e.Name, err)
			}
		}
		var hooks []Webhook
		if err := tx.SelectContext(ctx, &hooks, `SELECT `+columns[Webhook]("")+` FROM webhooks ORDER BY id FOR UPDATE`); err != nil {
			return err
		}
		for _, w := range hooks {
			sealed, err := noting(w.Secret)
			if err == nil {
				err = save(`UPDATE webhooks SET secret = $2 WHERE id = $1`, w.ID, sealed)
			}
			if err != nil {
				return fmt.Errorf("the secret of webhook %d: %w", w.ID, err)
			}
		}
		var apps []Factor
		if err := tx.SelectContext(ctx, &apps, `SELECT `+columns[Factor]("")+` FROM factors WHERE kind = $1 ORDER BY id FOR UPDATE`, people.CodeApp); err != nil {
			return err
		}
		for _, a := range apps {
			text, err := noting(a.Secret)
			if err == nil {
				err = save(`UPDATE factors SET secret = $2 WHERE id = $1`, a.ID, text)
			}
			if err != nil {
				return fmt.Errorf("a code app: %w", err)
			}
		}
		var adding []Onboarding
		if err := tx.SelectContext(ctx, &adding, `SELECT `+onboardingColumns+` FROM onboardings ORDER BY id FOR UPDATE`); err != nil {
			return err
		}
		for _, t := range adding {
			err := mapOnboarding(&t.Document.V, &t.Tokens.V, noting)
			if err == nil {
				err = save(`UPDATE onboardings SET document = $2, tokens = $3 WHERE id = $1`, t.ID, t.Document, t.Tokens)
			}
			if err != nil {
				return fmt.Errorf("%s: %w", t.Name, err)
			}
		}
		return nil
	})
	if err != nil {
		return 0, fmt.Errorf("write all secrets anew: %w", err)
	}
	return n, nil
}
