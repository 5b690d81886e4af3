package roster

import (
	"slices"
	"sync"
)

// titles are the names and versions of software, each kept once for all devices.
type titles struct {
	mu     sync.RWMutex
	all    map[int32]title // by its number in the database
	byName map[string][]int32
}

type title struct{ name, version string }

func (t *titles) add(id int32, name, version string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if _, known := t.all[id]; !known {
		t.all[id] = title{name, version}
		t.byName[name] = append(t.byName[name], id)
	}
}

func (t *titles) forget(ids []int32) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, id := range ids {
		name := t.all[id].name
		left := slices.DeleteFunc(t.byName[name], func(x int32) bool { return x == id })
		if delete(t.all, id); len(left) == 0 {
			delete(t.byName, name)
		} else {
			t.byName[name] = left
		}
	}
}

func (t *titles) unknown(rows []Row) (ids []int32) {
	t.mu.RLock()
	defer t.mu.RUnlock()
	asked := map[int32]bool{}
	for i := range rows {
		for _, id := range rows[i].Software {
			if _, known := t.all[id]; !known && !asked[id] {
				asked[id] = true
				ids = append(ids, id)
			}
		}
	}
	return ids
}

// installed implements selector.Software.
type installed struct {
	titles *titles
	ids    []int32
}

// Version implements selector.Software.
func (i installed) Version(name string) (string, bool) {
	i.titles.mu.RLock()
	defer i.titles.mu.RUnlock()
	for _, id := range i.titles.byName[name] {
		if _, ok := slices.BinarySearch(i.ids, id); ok {
			return i.titles.all[id].version, true
		}
	}
	return "", false
}

// Names implements selector.Software.
func (i installed) Names() []string {
	i.titles.mu.RLock()
	defer i.titles.mu.RUnlock()
	names := make([]string, 0, len(i.ids))
	for _, id := range i.ids {
		if t, known := i.titles.all[id]; known {
			names = append(names, t.name)
		}
	}
	return names
}
