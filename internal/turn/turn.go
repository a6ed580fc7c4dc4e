// Package turn has work done by one at a time, where those who wait may give up.
//
// From: the context of whoever waits.
// To: their turn.
package turn

import (
	"context"
	"sync"
)

// Lock is held by one at a time. Unlike a mutex, one who waits for it gives up with its context. The zero Lock is ready
// for use.
type Lock struct {
	once sync.Once
	free chan struct{} // holds one element while nobody holds the lock
}

func (l *Lock) ready() chan struct{} {
	l.once.Do(func() {
		l.free = make(chan struct{}, 1)
		l.free <- struct{}{}
	})
	return l.free
}

// Lock waits until the lock is free and takes it. It fails with the error of ctx where that ends before.
func (l *Lock) Lock(ctx context.Context) error {
	free := l.ready()
	if err := ctx.Err(); err != nil {
		return err
	}
	select {
	case <-free:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Unlock gives the lock back. It panics where nobody holds the lock.
func (l *Lock) Unlock() {
	select {
	case l.ready() <- struct{}{}:
	default:
		panic("turn: nobody holds the lock")
	}
}
