package suspect_test

import (
	"fmt"

	"moorwatch.example/core/suspect"
)

// A change is suspect where devices that have it have the alert far more often.
func Example() {
	for _, s := range suspect.Rank([]suspect.Candidate{{ID: "driver 4.1.7",
		Counts: suspect.Counts{ChangedWith: 9, ChangedWithout: 1, OthersWith: 2, OthersWithout: 88}},
		{ID: "wallpaper", Counts: suspect.Counts{ChangedWith: 5, ChangedWithout: 45, OthersWith: 6, OthersWithout: 44}}}) {
		fmt.Println(s.ID, s.Odds > 100)
	}
	// Output:
	// driver 4.1.7 true
}
