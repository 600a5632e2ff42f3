package mix

import (
	"container/list"
	"context"
	"errors"
	"sync"
)

// Cache keeps results by the hash of what made them, the most recently used up to a number
// of bytes. A result asked for twice at once is made once. Small results, which may have taken long to
// work out, are not pushed out by renders.
type Cache struct {
	mu      sync.Mutex
	entries map[string]*list.Element
	large   kept
	small   kept
	making  map[string]*making
	made    int
}

// kept is what is kept of one size, the most recently used first.
type kept struct {
	limit, used int // bytes
	order       *list.List
}

const (
	smallResult = 1 << 14 // bytes up to which a result is small
	smallPart   = 32      // of the cache that is kept for small ones: one in so many
)

type entry struct {
	key   string
	value any
	bytes int
}

type making struct {
	done  chan struct{}
	value any
	err   error
}

// NewCache returns a cache of at most limit bytes.
func NewCache(limit int) *Cache {
	return &Cache{
		entries: map[string]*list.Element{}, making: map[string]*making{},
		large: kept{limit: limit - limit/smallPart, order: list.New()}, small: kept{limit: limit / smallPart, order: list.New()},
	}
}

// Made returns how many results were made and not found.
func (c *Cache) Made() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.made
}

func (c *Cache) get(ctx context.Context, key string, build func() (any, int, error)) (any, error) {
	for {
		c.mu.Lock()
		if e, ok := c.entries[key]; ok {
			old := e.Value.(*entry)
			c.of(old.bytes).order.MoveToFront(e)
			c.mu.Unlock()
			return old.value, nil
		}
		m, ok := c.making[key]
		if !ok {
			break // still locked
		}
		c.mu.Unlock()
		select {
		case <-m.done:
		case <-ctx.Done(): // who waits may go; the work is another's
			return nil, ctx.Err()
		}
		if !errors.Is(m.err, context.Canceled) {
			return m.value, m.err
		}
		// whoever made it went away; it is made anew
	}
	m := &making{done: make(chan struct{}), err: errPanicked}
	c.making[key] = m
	c.made++
	c.mu.Unlock()

	bytes := 0
	defer func() {
		c.mu.Lock()
		delete(c.making, key)
		if m.err == nil {
			c.add(key, m.value, bytes)
		}
		c.mu.Unlock()
		close(m.done)
	}()
	m.value, bytes, m.err = build()
	return m.value, m.err
}

func (c *Cache) of(bytes int) *kept {
	if bytes <= smallResult {
		return &c.small
	}
	return &c.large
}

func (c *Cache) add(key string, value any, bytes int) {
	k := c.of(bytes)
	c.entries[key] = k.order.PushFront(&entry{key, value, bytes})
	k.used += max(bytes, entryBytes)
	c.drop(k, k.limit, 1)
}

// Forget drops all that is kept.
func (c *Cache) Forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	clear(c.entries)
	for _, k := range []*kept{&c.large, &c.small} {
		k.order.Init()
		k.used = 0
	}
}

// Trim drops the large results that were not used for longest, until no more than so many bytes are kept; it returns what
// was freed.
func (c *Cache) Trim(limit int) (freed int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	was := c.large.used
	c.drop(&c.large, limit, 0)
	return was - c.large.used
}

// drop keeps to a limit, but for some of the latest entries.
func (c *Cache) drop(k *kept, limit, latest int) {
	for k.used > limit && k.order.Len() > latest {
		old := k.order.Remove(k.order.Back()).(*entry)
		delete(c.entries, old.key)
		k.used -= max(old.bytes, entryBytes)
	}
}

// entryBytes is what an entry takes beside its value, about.
const entryBytes = 200

// Cached returns the result kept under key, or builds it. bytes is the memory it takes.
// What comes back is shared: it must not be changed. Whoever waits for another's work leaves with the context.
func Cached[T any](ctx context.Context, c *Cache, key string, build func() (value T, bytes int, err error)) (T, error) {
	v, err := c.get(ctx, key, func() (any, int, error) { return build() })
	if err != nil {
		var zero T
		return zero, err
	}
	return v.(T), nil
}
