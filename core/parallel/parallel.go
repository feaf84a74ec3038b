// Package parallel works on all cores at once.
package parallel

import (
	"context"
	"fmt"
	"runtime"
	"runtime/debug"
	"sync"
	"sync/atomic"
)

// Map works out n results on all cores, in order. Where the context ends first, the rest are empty. A panic in one of them is
// the caller's.
func Map[T any](ctx context.Context, n int, work func(int) T) []T {
	out := make([]T, n)
	var next atomic.Int64
	var failed atomic.Pointer[string]
	var wait sync.WaitGroup
	one := func() (more bool) {
		i := next.Add(1) - 1
		if i >= int64(n) || ctx.Err() != nil || failed.Load() != nil {
			return false
		}
		defer func() {
			if p := recover(); p != nil {
				text := caught(p)
				failed.CompareAndSwap(nil, &text)
			}
		}()
		out[i] = work(int(i))
		return true
	}
	for range min(n, runtime.GOMAXPROCS(0)) {
		wait.Go(func() {
			for one() {
			}
		})
	}
	wait.Wait()
	if text := failed.Load(); text != nil {
		panic(*text)
	}
	return out
}

// caught is what a panic says, with where it came of.
func caught(p any) string { return fmt.Sprintf("%v\n%s", p, debug.Stack()) }

// Do does some things at once, each by itself.
func Do(ctx context.Context, things ...func()) {
	Map(ctx, len(things), func(i int) struct{} {
		things[i]()
		return struct{}{}
	})
}
