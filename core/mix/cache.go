package mix

import (
	"container/list"
	"sync"
)

// Cache keeps results by the hash of what made them, the most recently used up to a number
// of bytes. A result asked for twice at once is made once.
type Cache struct {
	mu      sync.Mutex
	limit   int
	used    int
	entries map[string]*list.Element
	order   *list.List
	making  map[string]*making
	made    int
}

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
	return &Cache{limit: limit, entries: map[string]*list.Element{}, order: list.New(), making: map[string]*making{}}
}

// Made returns how many results were made and not found.
func (c *Cache) Made() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.made
}

func (c *Cache) get(key string, build func() (any, int, error)) (any, error) {
	c.mu.Lock()
	if e, ok := c.entries[key]; ok {
		c.order.MoveToFront(e)
		c.mu.Unlock()
		return e.Value.(*entry).value, nil
	}
	if m, ok := c.making[key]; ok {
		c.mu.Unlock()
		<-m.done
		return m.value, m.err
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

func (c *Cache) add(key string, value any, bytes int) {
	c.entries[key] = c.order.PushFront(&entry{key, value, bytes})
	c.used += bytes
	for c.used > c.limit && c.order.Len() > 1 {
		e := c.order.Back()
		old := c.order.Remove(e).(*entry)
		delete(c.entries, old.key)
		c.used -= old.bytes
	}
}

// Cached returns the result kept under key, or builds it. bytes is the memory it takes.
// What comes back is shared: it must not be changed.
func Cached[T any](c *Cache, key string, build func() (value T, bytes int, err error)) (T, error) {
	v, err := c.get(key, func() (any, int, error) { return build() })
	if err != nil {
		var zero T
		return zero, err
	}
	return v.(T), nil
}
