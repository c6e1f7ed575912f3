package recognise

import "time"

// A memory is a map of bounded size. What was not used for a time is forgotten, and
// when it is full, what was not used for longest; that is counted.
type memory[K comparable, V any] struct {
	most      int
	lasts     time.Duration
	items     map[K]*item[K, V]
	oldest    *item[K, V] // in the order in which they were last looked at
	newest    *item[K, V]
	forgotten int64 // before their time
}

type item[K comparable, V any] struct {
	key          K
	value        V
	used, looked time.Duration
	gone         bool // forgotten: who still has it looks again
	next         *item[K, V]
}

func newMemory[K comparable, V any](most int, lasts time.Duration) memory[K, V] {
	return memory[K, V]{most: most, lasts: lasts, items: make(map[K]*item[K, V])}
}

// find returns the item of a key, or nil.
func (m *memory[K, V]) find(now time.Duration, k K) *item[K, V] {
	if i := m.items[k]; i != nil && now-i.used <= m.lasts {
		return i
	}
	return nil
}

// get returns what is remembered of a key, or nil, and counts as use.
func (m *memory[K, V]) get(now time.Duration, k K) *V {
	i := m.find(now, k)
	if i == nil {
		return nil
	}
	i.used = now
	return &i.value
}

// peek does what get does, and does not count as use.
func (m *memory[K, V]) peek(k K) *V {
	if i := m.items[k]; i != nil {
		return &i.value
	}
	return nil
}

// put returns an empty item for what is to be remembered of a key.
func (m *memory[K, V]) put(now time.Duration, k K) *item[K, V] {
	if i := m.items[k]; i != nil {
		var none V
		i.value, i.used = none, now
		return i
	}
	m.expire(now)
	i := &item[K, V]{key: k, used: now, looked: now}
	m.items[k] = i
	m.append(i)
	return i
}

// remove forgets a key.
func (m *memory[K, V]) remove(k K) {
	if i := m.items[k]; i != nil {
		m.forget(i)
	}
}

func (m *memory[K, V]) forget(i *item[K, V]) {
	i.gone = true
	delete(m.items, i.key)
}

func (m *memory[K, V]) append(i *item[K, V]) {
	if i.next = nil; m.oldest == nil {
		m.oldest = i
	} else {
		m.newest.next = i
	}
	m.newest = i
}

// expire forgets some of what is old, and makes room for one more.
func (m *memory[K, V]) expire(now time.Duration) {
	for n := 0; m.oldest != nil && (n < 4 || len(m.items) >= m.most); n++ {
		i := m.oldest
		m.oldest = i.next
		switch {
		case i.gone:
		case now-i.used > m.lasts:
			m.forget(i)
		case i.used == i.looked && len(m.items) >= m.most:
			m.forget(i)
			m.forgotten++
		default:
			i.looked = i.used
			m.append(i)
		}
	}
}
