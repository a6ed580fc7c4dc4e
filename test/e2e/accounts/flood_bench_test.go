package accounts

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"widelark/test/e2e/house"
)

// BenchmarkSignInFlood asks for the lists while a thousand sign-ins a second fail, each with another name from another address, and while none does: the medians of both, how many tries were
// answered, and the service's peak memory.
func BenchmarkSignInFlood(b *testing.B) {
	s := house.Server.Serve(b)
	api := s.API(b)
	median := func() time.Duration {
		var took []time.Duration
		for range 100 {
			began := time.Now()
			_, err := api.GetListsWithResponse(b.Context(), nil)
			require.NoError(b, err)
			took = append(took, time.Since(began))
			time.Sleep(20 * time.Millisecond)
		}
		slices.Sort(took)
		return took[len(took)/2]
	}
	for b.Loop() {
		calm, before := median(), s.PeakMemory(b)
		ctx, stop := context.WithCancel(b.Context())
		var hands sync.WaitGroup
		var tried, answered atomic.Int64
		began := time.Now()
		for hand := range 50 {
			hands.Go(func() {
				tick := time.NewTicker(50 * time.Millisecond) // times 50 hands: 1,000 a second
				defer tick.Stop()
				for n := 0; ; n++ {
					select {
					case <-ctx.Done():
						return
					case <-tick.C:
					}
					from := &net.TCPAddr{IP: net.IPv4(127, byte(1+hand), byte(n>>8), byte(n))}
					client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true, DialContext: (&net.Dialer{LocalAddr: from}).DialContext}}
					tried.Add(1)
					hands.Go(func() {
						body := fmt.Sprintf(`{"name":"somebody-%d-%d","password":"not-the-password"}`, hand, n)
						if res, err := client.Post(s.URL+"/api/v1/session", "application/json", strings.NewReader(body)); err == nil {
							_ = res.Body.Close()
							answered.Add(1)
						}
					})
				}
			})
		}
		time.Sleep(time.Second)
		flooded := median()
		took := time.Since(began)
		stop()
		hands.Wait()
		ratio := flooded.Seconds() / calm.Seconds() * 1e6
		b.ReportMetric(ratio, "ppm")
		b.ReportMetric(ratio, "ppm-high")
		b.ReportMetric(ratio, "ppm-low")
		b.ReportMetric(calm.Seconds()*1000, "calm-ms")
		b.ReportMetric(flooded.Seconds()*1000, "flooded-ms")
		b.ReportMetric(float64(tried.Load())/took.Seconds(), "tries/s")
		b.ReportMetric(float64(answered.Load())/float64(tried.Load())*100, "answered-%")
		b.ReportMetric(float64(s.PeakMemory(b)-before)/(1<<20), "more-MiB")
	}
}
