package standin

import (
	"context"
	"encoding/xml"
	"net/http"
	"net/url"
	"time"
)

// warmOnSchedule fetches every page of the sitemap into the page cache, as often as
// the settings ask for it.
func (i *Instance) warmOnSchedule() {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	var last time.Time
	for {
		select {
		case <-i.ctx.Done():
			return
		case <-tick.C:
		}
		p, now := i.Layer.policy(), i.Layer.now()
		if !p.on("warm") || now.Sub(last) < time.Duration(p.number("warm-interval"))*time.Second {
			continue
		}
		last = now
		i.warmFromSitemap(i.ctx)
	}
}

func (i *Instance) warmFromSitemap(ctx context.Context) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, "/sitemap.xml", nil)
	if err != nil {
		return
	}
	var list struct {
		URLs []struct {
			Loc string `xml:"loc"`
		} `xml:"url"`
	}
	if xml.Unmarshal(record(i.origin, r).body, &list) != nil {
		return
	}
	for _, u := range list.URLs {
		for _, device := range []string{"desktop", "phone"} {
			if ctx.Err() != nil {
				return
			}
			i.fetch(ctx, u.Loc, device)
		}
	}
}

// fetch asks the layer for one of the site's own addresses, as a warm-up does.
func (i *Instance) fetch(ctx context.Context, address, device string) bool {
	own, err := url.Parse(i.URL)
	if err != nil {
		return false
	}
	u, err := url.Parse(address)
	if err != nil || u.Host != own.Host {
		return false
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return false
	}
	r.RequestURI = u.RequestURI()
	r.Header.Set("User-Agent", agents[device])
	return record(i.Layer, r).status < 400
}
