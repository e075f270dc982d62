package exclusions

import (
	"sync"

	lru "github.com/hashicorp/golang-lru/v2"

	"tidemarker/internal/inspect"
)

// remembered keeps what was computed of environments for as long as nothing that it follows from has changed: of a site with 50,000
// addresses and 2,000 rules it takes seconds, and is asked for with each click. The zero value is ready.
type remembered[T any] struct {
	mu   sync.Mutex
	kept *lru.Cache[uint64, *once[T]]
}

// mostRemembered is of how many environments something is kept.
const mostRemembered = 64

// once is computed by whoever asks first; others wait for that.
type once[T any] struct {
	sync.Once
	value T
}

func (r *remembered[T]) of(g inspect.RuleContext, compute func() T) (out T, err error) {
	sum, err := g.Sum()
	if err != nil {
		return out, err
	}
	r.mu.Lock()
	if r.kept == nil {
		if r.kept, err = lru.New[uint64, *once[T]](mostRemembered); err != nil {
			r.mu.Unlock()
			return out, err
		}
	}
	one, there := r.kept.Get(sum)
	if !there {
		one = &once[T]{}
		r.kept.Add(sum, one)
	}
	r.mu.Unlock()
	one.Do(func() { one.value = compute() })
	return one.value, nil
}
