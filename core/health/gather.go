package health

// Kin is something that items may have in common, and how many must, to be one matter.
type Kin struct {
	Key   string
	Least int
}

// Gather puts items that are likely to be one matter together, in the order of their first. kin
// names what an item may have in common with others, the strongest first; the first of which there
// are enough counts.
func Gather[T any](items []T, kin func(T) []Kin) [][]T {
	counts := map[string]int{}
	for _, i := range items {
		for _, k := range kin(i) {
			counts[k.Key]++
		}
	}
	var groups [][]T
	place := map[string]int{}
	for _, i := range items {
		name := ""
		for _, k := range kin(i) {
			if counts[k.Key] >= k.Least {
				name = k.Key
				break
			}
		}
		at, ok := place[name]
		if name == "" || !ok {
			place[name] = len(groups)
			groups = append(groups, []T{i})
			continue
		}
		groups[at] = append(groups[at], i)
	}
	return groups
}
