package form

import (
	"context"
	"fmt"
	"time"
)

// queryTime bounds one query of a tree. A description may come from a stranger, and ask of each part of a file all its parts.
const queryTime = 2 * time.Second

// inTime asks a library what it has no way to be stopped in, where that may take long: what takes too long is left behind, and ends with the program.
// That the library panics, as it does on some queries, is an error.
func inTime[T any](ctx context.Context, query string, long bool, ask func() (T, error)) (answer T, err error) {
	asked := func() (answer T, err error) {
		defer func() {
			if r := recover(); r != nil {
				err = fmt.Errorf("%s: %v", query, r)
			}
		}()
		return ask()
	}
	if !long {
		return asked()
	}
	done := make(chan struct{})
	var found T
	var failed error
	go func() {
		defer close(done)
		found, failed = asked()
	}()
	ctx, cancel := context.WithTimeout(ctx, queryTime)
	defer cancel()
	select {
	case <-done:
		return found, failed
	case <-ctx.Done():
		return answer, fmt.Errorf("%s: no answer within %v: %w", query, queryTime, ctx.Err())
	}
}
