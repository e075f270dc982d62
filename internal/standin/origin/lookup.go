package origin

import (
	"context"
	"net/http"
)

// Lookups may answer a look-up from what it has cached.
type Lookups interface {
	// Lookup returns what was cached for a query's text, or what find yields.
	Lookup(query string, find func() any) any
}

type lookupsKey struct{}

// WithLookups lets a data cache in for one request.
func WithLookups(ctx context.Context, l Lookups) context.Context {
	return context.WithValue(ctx, lookupsKey{}, l)
}

// Lookup asks for data by a query's text. Without a data cache it asks find.
func Lookup[T any](r *http.Request, query string, find func() T) T {
	l, there := r.Context().Value(lookupsKey{}).(Lookups)
	if !there {
		return find()
	}
	got, ok := l.Lookup(query, func() any { return find() }).(T)
	if !ok {
		return find()
	}
	return got
}
