package bus_test

import (
	"context"
	"errors"
	"slices"
	"sync"
	"testing"

	"moorwatch.example/service/bus"
)

func TestTopicTellsAllInOrder(t *testing.T) {
	var topic bus.Topic[int]
	topic.Publish(t.Context(), 1) // nobody listens
	var heard []string
	topic.Subscribe(func(_ context.Context, n int) { heard = append(heard, "first") })
	topic.Subscribe(func(_ context.Context, n int) {
		heard = append(heard, "second")
		topic.Subscribe(func(context.Context, int) { heard = append(heard, "late") }) // while it is published
	})
	topic.Publish(t.Context(), 2)
	if want := []string{"first", "second"}; !slices.Equal(heard, want) {
		t.Errorf("heard %q, want %q", heard, want)
	}
	topic.Publish(t.Context(), 3)
	if want := []string{"first", "second", "first", "second", "late"}; !slices.Equal(heard, want) {
		t.Errorf("heard %q, want %q", heard, want)
	}
}

func TestHookEndsAtTheFirstError(t *testing.T) {
	var hook bus.Hook[string]
	if err := hook.Do(t.Context(), "x"); err != nil {
		t.Errorf("without subscribers: %v", err)
	}
	broken := errors.New("broken")
	var did []string
	for _, s := range []struct {
		name string
		err  error
	}{{"one", nil}, {"two", broken}, {"three", nil}} {
		hook.Subscribe(func(_ context.Context, e string) error {
			did = append(did, s.name+" "+e)
			return s.err
		})
	}
	if err := hook.Do(t.Context(), "x"); !errors.Is(err, broken) {
		t.Errorf("got %v, want %v", err, broken)
	}
	if want := []string{"one x", "two x"}; !slices.Equal(did, want) {
		t.Errorf("did %q, want %q", did, want)
	}
}

func TestQuestionTakesTheFirstAnswer(t *testing.T) {
	broken := errors.New("broken")
	tests := []struct {
		name    string
		answers []any // a text, or an error
		want    string
		err     error
	}{
		{"nobody to ask", nil, "", nil},
		{"nobody knows", []any{"", ""}, "", nil},
		{"the second knows", []any{"", "a policy", "a rule"}, "a policy", nil},
		{"one fails before", []any{"", broken, "a rule"}, "", broken},
		{"one fails after", []any{"a policy", broken}, "a policy", nil},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			var question bus.Question[int, string]
			for _, a := range test.answers {
				question.Subscribe(func(context.Context, int) (string, error) {
					if err, ok := a.(error); ok {
						return "", err
					}
					return a.(string), nil
				})
			}
			got, err := question.Ask(t.Context(), 1)
			if got != test.want || !errors.Is(err, test.err) {
				t.Errorf("got %q, %v; want %q, %v", got, err, test.want, test.err)
			}
		})
	}
}

func TestSubscribingWhilePublishing(t *testing.T) {
	var topic bus.Topic[int]
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 100 {
				topic.Subscribe(func(context.Context, int) {})
				topic.Publish(t.Context(), 1)
			}
		})
	}
	all.Wait()
	n := 0
	topic.Subscribe(func(context.Context, int) { n++ })
	topic.Publish(t.Context(), 1)
	if n != 1 {
		t.Errorf("told %d times, want once", n)
	}
}
