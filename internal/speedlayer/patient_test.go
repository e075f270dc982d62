package speedlayer_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/speedlayer"
)

// flaky answers with these errors, one after the other, and then properly.
type flaky struct {
	speedlayer.Layer
	errs  []error
	calls int
}

func (f *flaky) next() error {
	f.calls++
	if len(f.errs) == 0 {
		return nil
	}
	err := f.errs[0]
	f.errs = f.errs[1:]
	return err
}

func (f *flaky) Settings(context.Context) (speedlayer.Settings, error) {
	return speedlayer.Settings{ETag: "1"}, f.next()
}
func (f *flaky) Purge(context.Context, speedlayer.Scope) (int, error) { return 3, f.next() }
func (f *flaky) Apply(context.Context, settings.Values, string) release.Outcome {
	return release.Unknown(f.next())
}

func TestASilentSpeedLayerIsAskedAgainForSoLong(t *testing.T) {
	silent := &speedlayer.Unreachable{Base: "x", Call: "GET /settings", Cause: errors.New("status 503")}
	told := 0
	patient := func(f *flaky, within time.Duration) speedlayer.Layer {
		return speedlayer.Patient(f, within, func(why error, next time.Duration) {
			told++
			require.ErrorIs(t, why, silent)
			assert.Positive(t, next)
		})
	}
	f := &flaky{errs: []error{silent, silent}}
	got, err := patient(f, time.Minute).Settings(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "1", got.ETag)
	assert.Equal(t, 3, f.calls)
	assert.Equal(t, 2, told)

	// It is asked again when it says, not before.
	slow := &speedlayer.Unreachable{Base: "x", Call: "POST /purge", Cause: errors.New("status 429"), Again: 2 * time.Second}
	f = &flaky{errs: []error{slow}}
	began := time.Now()
	n, err := speedlayer.Patient(f, time.Minute, func(error, time.Duration) {}).Purge(t.Context(), speedlayer.Scope{})
	require.NoError(t, err)
	assert.Equal(t, 3, n)
	assert.GreaterOrEqual(t, time.Since(began), 2*time.Second)

	// What it says in the end is what it said last; what it refuses is not asked again; settings are applied once.
	f = &flaky{errs: []error{silent, silent, silent, silent, silent, silent, silent, silent}}
	_, err = patient(f, time.Second).Settings(t.Context())
	require.ErrorIs(t, err, silent)
	assert.Greater(t, f.calls, 1)
	refused := &speedlayer.Unauthorised{Base: "x", Status: 401}
	f = &flaky{errs: []error{refused}}
	_, err = patient(f, time.Minute).Settings(t.Context())
	require.ErrorIs(t, err, refused)
	assert.Equal(t, 1, f.calls)
	f = &flaky{errs: []error{silent}}
	require.Equal(t, release.ActUnknown, patient(f, time.Minute).Apply(t.Context(), nil, "1").State())
	assert.Equal(t, 1, f.calls)

	// Whoever stops waiting is not kept.
	ctx, cancel := context.WithCancel(t.Context())
	f = &flaky{errs: []error{silent, silent, silent, silent, silent, silent}}
	_, err = speedlayer.Patient(f, time.Hour, func(error, time.Duration) { cancel() }).Settings(ctx)
	require.ErrorIs(t, err, silent)
	assert.Equal(t, 1, f.calls)
}
