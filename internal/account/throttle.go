package account

import (
	"fmt"
	"strings"
	"sync"
	"time"
)

// ThrottledError says that a sign-in is not tried before some time has gone by.
type ThrottledError struct{ After time.Duration }

// Error says for how long to wait.
func (e *ThrottledError) Error() string {
	return fmt.Sprintf("too many tries that failed; wait %s", e.After.Round(time.Second))
}

const (
	// freeTries is how many failures in a row cost nothing.
	freeTries = 3

	// longestByName and longestByAddress bound the delays. That of a name is short: whoever guesses at it must not keep its owner out.
	longestByName    = 30 * time.Second
	longestByAddress = 15 * time.Minute

	// forgotten is after how long without a failure earlier ones do not count any more.
	forgotten = time.Hour

	// mostTracked bounds the names and addresses that are remembered. The oldest go.
	mostTracked = 20_000
)

// throttle makes guessing slow: after some failures in a row, each one makes the next wait twice as long, counted by name and by address.
// It is safe for concurrent use.
type throttle struct {
	mu    sync.Mutex
	fails map[string]*failures // guarded by mu
}

type failures struct {
	count   int
	last    time.Time
	waiting time.Time // until then nothing is tried
}

// keys are what a try is counted by: its name and its address, with the longest delay of each.
func keys(name, address string) map[string]time.Duration {
	all := map[string]time.Duration{"name " + strings.ToLower(name): longestByName}
	if address != "" {
		all["address "+address] = longestByAddress
	}
	return all
}

// wait returns how long a try has to wait yet; 0 where it may be made.
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

// failed notes a try that failed.
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

// forget drops what is old, and where that is not enough, what is older than the rest. The caller holds the lock.
func (t *throttle) forget(now time.Time) {
	for age := forgotten; len(t.fails) > mostTracked*3/4 && age > time.Second; age /= 2 {
		for key, f := range t.fails {
			if now.Sub(f.last) > age {
				delete(t.fails, key)
			}
		}
	}
	for key := range t.fails { // all within a second: whichever come
		if len(t.fails) <= mostTracked {
			break
		}
		delete(t.fails, key)
	}
}

// succeeded forgets the failures of a name and an address.
func (t *throttle) succeeded(name, address string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for key := range keys(name, address) {
		delete(t.fails, key)
	}
}
