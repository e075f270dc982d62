package speedlayer

import (
	"context"
	"errors"
	"time"

	"github.com/cenkalti/backoff/v5"

	"tidemarker/internal/core/settings"
)

// patient asks a speed layer that brings no answer again and again.
type patient struct {
	Layer
	within time.Duration
	told   func(why error, next time.Duration)
}

// Patient is a speed layer that, when it brings no answer, is asked again with growing pauses, or after the pause that it
// names, until it has been silent for so long. That is for what may be done twice: reading, purging, warming. Settings are
// applied once, since what became of an application without an answer has to be read first. told hears of each pause.
func Patient(l Layer, within time.Duration, told func(why error, next time.Duration)) Layer {
	return &patient{l, within, told}
}

const (
	firstPause, longestPause = 500 * time.Millisecond, 20 * time.Second
)

func again[T any](ctx context.Context, p *patient, ask func(context.Context) (T, error)) (out T, err error) {
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval = firstPause, longestPause
	_, _ = backoff.Retry(ctx, func() (struct{}, error) {
		out, err = ask(ctx)
		silent, is := errors.AsType[*Unreachable](err)
		switch {
		case err == nil:
			return struct{}{}, nil
		case !is || ctx.Err() != nil:
			return struct{}{}, backoff.Permanent(err)
		case silent.Again > 0:
			return struct{}{}, backoff.RetryAfter(int(max(1, min(silent.Again, p.within).Seconds())))
		}
		return struct{}{}, err
	}, backoff.WithBackOff(pauses), backoff.WithMaxElapsedTime(p.within), backoff.WithNotify(func(_ error, next time.Duration) { p.told(err, next) }))
	return out, err
}

// About asks who answers.
func (p *patient) About(ctx context.Context) (settings.About, error) {
	return again(ctx, p, p.Layer.About)
}

// Catalogue reads every setting.
func (p *patient) Catalogue(ctx context.Context) (settings.Catalogue, error) {
	return again(ctx, p, p.Layer.Catalogue)
}

// Settings reads the values in force.
func (p *patient) Settings(ctx context.Context) (Settings, error) {
	return again(ctx, p, p.Layer.Settings)
}

// Purge removes pages.
func (p *patient) Purge(ctx context.Context, of Scope) (int, error) {
	return again(ctx, p, func(ctx context.Context) (int, error) { return p.Layer.Purge(ctx, of) })
}

// Warm begins a warm-up.
func (p *patient) Warm(ctx context.Context, urls []string) (Warming, error) {
	return again(ctx, p, func(ctx context.Context) (Warming, error) { return p.Layer.Warm(ctx, urls) })
}

// Warming says how far one has come.
func (p *patient) Warming(ctx context.Context, id string) (Warming, error) {
	return again(ctx, p, func(ctx context.Context) (Warming, error) { return p.Layer.Warming(ctx, id) })
}

// Status says what the page cache has.
func (p *patient) Status(ctx context.Context) (Status, error) {
	return again(ctx, p, p.Layer.Status)
}
