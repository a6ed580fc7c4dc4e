package account

import (
	"fmt"
	"strings"
	"sync"
	"time"
)

// ThrottledError refuses a sign-in until some time has passed.
type ThrottledError struct{ After time.Duration }

// Error returns the message, with the time to wait.
func (e *ThrottledError) Error() string {
	return fmt.Sprintf("too many tries that failed; wait %s", e.After.Round(time.Second))
}

const (
	// freeTries is the number of failures in a row that cause no delay.
	freeTries = 3

	// longestByName and longestByAddress bound the delays. The one of a name is short, so that nobody who guesses at it can lock its owner out.
	longestByName    = 30 * time.Second
	longestByAddress = 15 * time.Minute

	// longestByCode is the one of an account's second factor, which only those can guess at who have its password. A code has just a million values.
	longestByCode = 15 * time.Minute

	// forgotten is the time without a failure after which earlier failures no longer count.
	forgotten = time.Hour

	// mostTracked bounds the number of names and addresses that are remembered. The oldest are dropped.
	mostTracked = 20_000
)

// throttle slows guessing down: after some failures in a row, each further one doubles the delay, by name and by address.
// It is safe for concurrent use.
type throttle struct {
	mu    sync.Mutex
	fails map[string]*failures // guarded by mu
	known map[string]time.Time // addresses from which somebody has signed in, and when; guarded by mu
}

type failures struct {
	count   int
	last    time.Time
	waiting time.Time // no try before this moment
}

// keys returns what a try is counted by: its name and its address, with the longest delay of each.
func keys(name, address string) map[string]time.Duration {
	longest := longestByName
	if strings.HasPrefix(name, codePrefix) {
		longest = longestByCode
	}
	all := map[string]time.Duration{"name " + strings.ToLower(name): longest}
	if address != "" {
		all["address "+address] = longestByAddress
	}
	return all
}

// wait returns how long a try still has to wait; 0 if it may be made now.
func (t *throttle) wait(name, address string, now time.Time) (longest time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for key := range keys(name, address) {
		if f := t.fails[key]; f != nil {
			longest = max(longest, f.waiting.Sub(now))
		}
	}
	return longest
}

// failed records a try that failed.
func (t *throttle) failed(name, address string, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.fails == nil {
		t.fails = map[string]*failures{}
	}
	for key, longest := range keys(name, address) {
		f := t.fails[key]
		if f == nil || now.Sub(f.last) > forgotten {
			f = &failures{}
			t.fails[key] = f
		}
		f.count++
		f.last = now
		if over := f.count - freeTries; over >= 0 {
			f.waiting = now.Add(min(longest, time.Second<<min(over, 20)))
		}
	}
	if len(t.fails) > mostTracked {
		t.forget(now)
	}
}

// forget drops what is older than forgotten and, if that is not enough, the oldest of the rest. Precondition: the caller holds t.mu.
func (t *throttle) forget(now time.Time) {
	for age := forgotten; len(t.fails) > mostTracked*3/4 && age > time.Second; age /= 2 {
		for key, f := range t.fails {
			if now.Sub(f.last) > age {
				delete(t.fails, key)
			}
		}
	}
	for key := range t.fails { // all failed within the same second, so any will do
		if len(t.fails) <= mostTracked {
			break
		}
		delete(t.fails, key)
	}
}

// succeeded forgets the failures of a name and an address, and remembers the address.
func (t *throttle) succeeded(name, address string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for key := range keys(name, address) {
		delete(t.fails, key)
	}
	if t.known == nil || len(t.known) >= mostTracked {
		t.known = map[string]time.Time{} // more than any organisation has; those who come again are remembered again
	}
	t.known[address] = time.Now()
}

// isKnown reports whether somebody has signed in from an address within a month, as far as this process knows.
func (t *throttle) isKnown(address string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	at, known := t.known[address]
	return known && time.Since(at) < 30*24*time.Hour
}
