package turns_test

import (
	"context"
	"errors"
	"runtime"
	"sync"
	"testing"

	"tansu/internal/turns"
)

// Who has asked for much does not keep another one waiting behind it, and who gives up is not waited for.
func TestEverybodyHasATurn(t *testing.T) {
	all := turns.New()
	ctx := t.Context()
	first, err := all.Take(ctx, "loop")
	if err != nil {
		t.Fatal(err)
	}
	given, cancel := context.WithCancel(ctx)
	var wait sync.WaitGroup
	for range 40 {
		wait.Go(func() {
			if done, err := all.Take(given, "loop"); err == nil {
				done()
			} else if !errors.Is(err, context.Canceled) {
				t.Error(err)
			}
		})
	}
	for range max(1, runtime.GOMAXPROCS(0)/2) - 1 { // the others of the processors
		done, err := all.Take(ctx, "another one")
		if err != nil {
			t.Fatal(err)
		}
		done()
	}
	first()
	done, err := all.Take(ctx, "reader") // in the middle of the forty
	if err != nil {
		t.Fatal(err)
	}
	cancel()
	done()
	wait.Wait()
	if _, err := all.Take(given, "late"); !errors.Is(err, context.Canceled) {
		t.Errorf("a turn for whoever has gone: %v", err)
	}
	for range 3 { // nothing was kept by those who gave up
		done, err := all.Take(ctx, "loop")
		if err != nil {
			t.Fatal(err)
		}
		done()
	}
}
