// Package hands runs functions in goroutines and hands their panics to the caller that waits for them.
//
// From: functions.
// To: nothing when all have returned, or the first panic among them.
package hands

import (
	"fmt"
	"runtime/debug"
	"sync"
)

// Group is a group of goroutines. The zero Group is ready for use. Its methods are safe for concurrent use, but no Go may follow Wait.
type Group struct {
	all sync.WaitGroup
	mu  sync.Mutex
	bad any // guarded by mu: the first panic
}

// Go runs do in a goroutine. A panic in do ends that goroutine only.
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

// Wait waits for all goroutines, and panics with the first panic among them, as if the caller had run the functions itself.
func (g *Group) Wait() {
	g.all.Wait()
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.bad != nil {
		panic(g.bad)
	}
}
