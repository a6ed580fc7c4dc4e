// Package hands shares work among goroutines whose failures come back to whoever waits for them.
//
// From: functions.
// To: their end, or the first panic among them.
package hands

import (
	"fmt"
	"runtime/debug"
	"sync"
)

// Group is goroutines that work on one thing. The zero Group is ready for use. Its methods are safe for concurrent use, but Wait comes
// after the last Go.
type Group struct {
	all sync.WaitGroup
	mu  sync.Mutex
	bad any // guarded by mu: the first panic
}

// Go runs do in a goroutine. A panic in it ends that goroutine alone.
func (g *Group) Go(do func()) {
	g.all.Go(func() {
		defer func() {
			if cause := recover(); cause != nil {
				g.mu.Lock()
				defer g.mu.Unlock()
				if g.bad == nil {
					g.bad = fmt.Sprintf("%v\n%s", cause, debug.Stack())
				}
			}
		}()
		do()
	})
}

// Wait waits for all, and panics with the first panic among them: where the caller's own would have come up.
func (g *Group) Wait() {
	g.all.Wait()
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.bad != nil {
		panic(g.bad)
	}
}
