package check

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/core/review"
	"widelark/core/weburl"
	"widelark/internal/journal"
)

// What counts as loading together: asked for by the same asker within a moment, by most of those who asked, often enough.
const (
	together     = 3 * time.Second
	leastVisits  = 20
	mostTogether = 500 // pairs that are kept, the most certain first
	lookedAgain  = 10 * time.Minute
)

type askerKey struct {
	person  uuid.UUID
	address netip.Addr
}

// visit is a request that others may belong to.
type visit struct {
	host string
	at   time.Time
	with map[string]bool // hosts that were asked for since
}

// Together returns the hosts that load together in the recorded requests of the last days.
func (d *Checker) Together(ctx context.Context) ([]review.Companion, error) {
	if err := d.mu.Lock(ctx); err != nil {
		return nil, err
	}
	defer d.mu.Unlock()
	return d.seenTogether(ctx)
}

// seenTogether finds hosts that load together in the recorded requests of the last days. The result is kept until
// more was recorded: a week's requests are read for it.
func (d *Checker) seenTogether(ctx context.Context) ([]review.Companion, error) {
	_, last, n, err := d.Journal.RecordedSpan(ctx)
	if err != nil || n == d.recorded || len(d.companions) > 0 && d.Now().Sub(d.foundAt) < lookedAgain {
		return d.companions, err
	}
	const days = 7
	visits, shown := map[string]int{}, map[string]string{}
	pairs := map[[2]string]int{}
	open := map[askerKey][]*visit{}
	err = d.Journal.EachRecord(ctx, last.AddDate(0, 0, -days), last.Add(time.Second), true, func(r journal.Record) error {
		host := hostOf(r.URL)
		who := askerKey{r.Person, r.Address}
		still := open[who][:0]
		fresh := true
		for _, v := range open[who] {
			if r.At.Sub(v.at) > together {
				continue
			}
			still = append(still, v)
			if v.host == host {
				fresh = false
			} else if !v.with[host] {
				v.with[host] = true
				pairs[[2]string{v.host, host}]++
			}
		}
		if fresh {
			visits[host]++
			if shown[host] == "" {
				shown[host] = r.URL
			}
			still = append(still, &visit{host, r.At, map[string]bool{}})
		}
		open[who] = still
		return nil
	})
	if err != nil {
		return nil, err
	}
	var found []review.Companion
	for pair, times := range pairs {
		if of := visits[pair[0]]; of >= leastVisits && 2*times > of {
			page, err := weburl.Parse(shown[pair[0]])
			needs, otherErr := weburl.Parse(shown[pair[1]])
			if err == nil && otherErr == nil {
				found = append(found, review.Companion{Page: page, Needs: needs, Times: times, Of: of})
			}
		}
	}
	slices.SortFunc(found, func(a, b review.Companion) int {
		return cmp.Or(cmp.Compare(b.Times*a.Of, a.Times*b.Of), strings.Compare(a.Page.Host(), b.Page.Host()), strings.Compare(a.Needs.Host(), b.Needs.Host()))
	})
	d.recorded, d.foundAt, d.companions = n, d.Now(), found[:min(len(found), mostTogether)]
	return d.companions, nil
}

// hostOf returns the host of a canonical URL.
func hostOf(url string) string {
	_, rest, _ := strings.Cut(url, "://")
	if end := strings.IndexAny(rest, "/?"); end >= 0 {
		rest = rest[:end]
	}
	if port := strings.LastIndexByte(rest, ':'); port > strings.LastIndexByte(rest, ']') {
		rest = rest[:port]
	}
	return rest
}
