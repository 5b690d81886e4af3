package demo

import (
	"context"
	_ "embed" // the feeds
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
)

// The made-up feeds of the sample world. A time such as "day -12" is so many days from the demo's beginning.
var (
	//go:embed advisories.json
	worldAdvisories string
	//go:embed exploited.csv
	worldExploited string
)

var dayMark = regexp.MustCompile(`day (-?\d+)`)

// advisories imports the sample world's feeds.
func (d *demo) advisories(ctx context.Context) error {
	for name, text := range map[string]string{"Heath Tools and friends": worldAdvisories, "Known to be exploited": worldExploited} {
		text = dayMark.ReplaceAllStringFunc(text, func(mark string) string {
			days, _ := strconv.Atoi(mark[len("day "):]) // which are digits
			return d.Began.AddDate(0, 0, days).UTC().Truncate(24 * time.Hour).Format(time.RFC3339)
		})
		f, err := client.Result(d.client.ImportFeedWithBodyWithResponse(ctx, name, &api.ImportFeedParams{Whole: new(true)},
			"application/octet-stream", strings.NewReader(text)))
		if err != nil {
			return fmt.Errorf("the feed %s: %w", name, err)
		}
		if f.Refused > 0 {
			return fmt.Errorf("the feed %s: %s", name, strings.Join(f.Refusals, "; "))
		}
	}
	return nil
}
