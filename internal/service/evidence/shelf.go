package evidence

// What was read of large files is kept while they are looked at.

import (
	"sync"

	"github.com/hashicorp/golang-lru/v2/simplelru"
)

const (
	shelfBytes = 128 << 20 // of one shelf
	shelfFiles = 1000
)

// shelf keeps what was read of the files that were looked at last: as much as it has room for in bytes, which is only known when it has been read.
type shelf[T interface{ bytes() int64 }] struct {
	mu   sync.Mutex
	kept *simplelru.LRU[string, T]
}

// at gives the place of a file on the shelf, which is empty at first. What has not been used for longest makes room.
func (s *shelf[T]) at(key string, empty func() T) T {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.kept == nil {
		s.kept, _ = simplelru.NewLRU[string, T](shelfFiles, nil) // it fails for no size alone
	}
	x, ok := s.kept.Get(key)
	if !ok {
		x = empty()
		s.kept.Add(key, x)
	}
	size := int64(0)
	for _, k := range s.kept.Values() {
		size += k.bytes()
	}
	for size > shelfBytes && s.kept.Len() > 1 {
		_, oldest, _ := s.kept.RemoveOldest()
		size -= oldest.bytes()
	}
	return x
}
