package onboard

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"time"

	"tidemarker/internal/core/site"
	"tidemarker/internal/reach"
)

// The limits of a survey.
const (
	mostObserved = 120 // pages that are fetched
	perPlace     = 10  // of them, below one first part of the path
	mostFiles    = 60  // of a sitemap that has several
	mostFetched  = 50 << 20
)

// fetcher gets what a site serves, from the site's own hosts alone.
type fetcher struct {
	env  site.Environment
	http http.Client
}

func newFetcher(env site.Environment) *fetcher {
	f := &fetcher{env: env}
	f.http = http.Client{Transport: reach.Transport(), Timeout: 30 * time.Second, CheckRedirect: func(r *http.Request, via []*http.Request) error {
		if !env.Owns(r.URL) || len(via) > 5 {
			return http.ErrUseLastResponse
		}
		return nil
	}}
	return f
}

func (f *fetcher) get(ctx context.Context, address string) (res *http.Response, body []byte, err error) {
	u, err := url.Parse(address)
	if err != nil || !f.env.Owns(u) {
		return nil, nil, fmt.Errorf("%s is not on one of the site's hosts", address)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, nil, err
	}
	req.Header.Set("User-Agent", "Mozilla/5.0 (X11; Linux x86_64) tide-marker-survey")
	if res, err = f.http.Do(req); err != nil {
		return nil, nil, fmt.Errorf("%s does not answer: %w", address, bare(err))
	}
	defer res.Body.Close()
	body, err = io.ReadAll(io.LimitReader(res.Body, mostFetched+1))
	return res, body, err
}

// bare is why a request failed, without what wraps it for programmers.
func bare(err error) error {
	if u, ok := errors.AsType[*url.Error](err); ok {
		err = u.Err
	}
	if n, ok := errors.AsType[*net.OpError](err); ok {
		err = n.Err
	}
	if sys, ok := errors.AsType[*os.SyscallError](err); ok {
		err = sys.Err
	}
	return err
}
