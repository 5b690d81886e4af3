package health

// gatherLeast is how many items of one weak key are one matter.
const gatherLeast = 5

// Gather puts items that are likely to be one matter together, in the order of their first: those
// of one strong key, and of the others those of one weak key where there are at least five. An
// empty key joins nothing.
func Gather[T any](items []T, key func(T) (strong, weak string)) [][]T {
	strongs, weaks := map[string]int{}, map[string]int{}
	for _, i := range items {
		strong, weak := key(i)
		strongs[strong]++
		if strong == "" {
			weaks[weak]++
		}
	}
	var groups [][]T
	place := map[string]int{}
	for _, i := range items {
		strong, weak := key(i)
		name := ""
		switch {
		case strong != "" && strongs[strong] > 1:
			name = "strong " + strong
		case strong == "" && weak != "" && weaks[weak] >= gatherLeast:
			name = "weak " + weak
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
