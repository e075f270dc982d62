package onboard

import (
	"context"
	"log/slog"

	"tidemarker/internal/act"
	"tidemarker/internal/browser"
	"tidemarker/internal/core/site"
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/store"
)

// Desk is where sites are added.
type Desk struct {
	Store   *store.Store
	Acts    *act.Acts
	Blobs   store.Blobs
	Browser func() (*browser.Browser, error)
	Log     *slog.Logger
}

// dial is the speed layer of an environment that a person told of, with its token.
func (d *Desk) dial(e site.Environment, token string) (speedlayer.Layer, error) {
	return d.Acts.Kinds.Open(e.Connector.Kind, speedlayer.Place{Environment: e.Name, URL: e.Connector.URL, Token: token, Variables: d.Acts.Variables})
}

// locked does something on a registered site's environment while nobody else acts there.
func (d *Desk) locked(ctx context.Context, siteID int64, name string, do func() error) error {
	envs, err := d.Store.Environments(ctx, siteID)
	if err != nil {
		return err
	}
	for _, e := range envs {
		if e.Name != name {
			continue
		}
		lock, free, err := d.Store.TryLockEnvironment(ctx, e.ID)
		if err != nil {
			return err
		}
		if !free {
			return &act.Busy{Environment: e.Name}
		}
		defer lock.Unlock()
	}
	return do()
}
