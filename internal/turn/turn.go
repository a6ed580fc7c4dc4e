// Package turn provides a lock whose waiters can give up.
//
// From: the context of a caller.
// To: the lock, or the error of the context.
package turn

import (
	"context"
	"sync"
)

// Lock is held by one caller at a time. Unlike with a mutex, a caller stops waiting when its context ends. The zero Lock is ready for use.
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

// Lock waits until the lock is free and takes it. It returns the error of ctx if ctx ends first.
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

// Unlock releases the lock. It panics if nobody holds it.
func (l *Lock) Unlock() {
	select {
	case l.ready() <- struct{}{}:
	default:
		panic("turn: nobody holds the lock")
	}
}
