package outpost

import (
	"fmt"
	"log/slog"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"widelark/bench/rounds"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/access"
	"widelark/internal/dispatch"
	"widelark/internal/edition"
	"widelark/internal/gate"
	"widelark/internal/parcel"
	"widelark/internal/revision"
	"widelark/internal/secret"
	"widelark/internal/standing"
	"widelark/internal/testkit"
	"widelark/internal/testkit/draft"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

const size = 1_000_000

// million is a service with a list of a million entries that is live, and a gate elsewhere that has it on its disk.
type million struct {
	h        draft.Draft
	list     uuid.UUID
	names    []string
	dispatch *dispatch.Dispatch
	folder   *Folder
	identity Identity
}

func newMillion(b *testing.B) *million {
	m := &million{h: draft.New(b, server), names: make([]string, size)}
	for i := range m.names {
		m.names[i] = fmt.Sprintf("site-%d.example", i*7919%len(m.names))
	}
	m.list = m.h.List(b, "Betting").ID
	_, _, err := revision.Import(b.Context(), m.h.Store, m.list, strings.NewReader(strings.Join(m.names, "\n")), pattern.Mending, revision.Merging{}, 0, access.Setup)
	require.NoError(b, err)
	m.h.Fallback(b, revision.RuleBody{Name: "Never", Then: policy.Block, If: &revision.Condition{Lists: draft.Refs(m.list)}})
	box, err := secret.Load(b.TempDir() + "/secret")
	require.NoError(b, err)
	m.dispatch = &dispatch.Dispatch{Store: m.h.Store, Facts: standing.NewSource(m.h.Store, time.Now), Secret: box, Zone: "UTC", Now: time.Now, Log: slog.New(slog.DiscardHandler)}
	m.folder, err = OpenFolder(b.TempDir())
	require.NoError(b, err)
	m.identity, err = newIdentity("http://127.0.0.1:8470")
	require.NoError(b, err)
	m.identity.Name, m.identity.Kind = "bench", policy.Proxy
	m.publish(b)
	m.fetch(b)
	return m
}

func (m *million) publish(b *testing.B) {
	b.Helper()
	now, err := m.h.Store.DraftVersion(b.Context())
	require.NoError(b, err)
	_, err = m.h.Store.Publish(b.Context(), revision.Publishing{Version: now.Draft, Note: "an edit"}, 0, access.Setup)
	require.NoError(b, err)
}

// fetch makes an edition of what is live and moves what is new of it into the folder; it returns how many bytes that were.
func (m *million) fetch(b *testing.B) (bytes int) {
	b.Helper()
	e, err := m.dispatch.Live(b.Context())
	require.NoError(b, err)
	public, _, err := m.h.Store.SigningKey(b.Context(), nil)
	require.NoError(b, err)
	m.identity.ServiceKey = public
	require.NoError(b, m.folder.putIdentity(m.identity))
	manifest, err := e.Open(public)
	require.NoError(b, err)
	bytes = len(e.Manifest)
	for n := range parcel.Layers {
		layer, err := manifest.Layer(n, m.folder)
		require.NoError(b, err)
		for _, d := range layer {
			if m.folder.hasPart(d) {
				continue
			}
			found, err := m.h.Store.Parts(b.Context(), []parcel.Digest{d})
			require.NoError(b, err)
			require.NoError(b, m.folder.putPart(d, found[d]))
			bytes += len(d) + len(found[d])
		}
	}
	require.NoError(b, m.folder.putEdition(e))
	return bytes
}

// index builds what the gate decides by from memory.
func (m *million) index() *match.Index {
	builder := match.NewBuilder(len(m.names))
	list := builder.List(m.list.String(), "Betting")
	for i, name := range m.names {
		builder.AddNamed(list, int64(i), name, pattern.AndBelow, false)
	}
	return builder.Build()
}

// start starts a gate from the folder and decides a request.
func (m *million) start(b *testing.B) {
	b.Helper()
	o, err := Open(Config{Folder: m.folder, Now: time.Now, Lapse: time.Hour, Spool: 1 << 20, Log: slog.New(slog.DiscardHandler)})
	require.NoError(b, err)
	g := gate.New(policy.Proxy, "bench", time.Now, nil)
	o.Start(b.Context(), g)
	u, err := weburl.Parse("http://www.site-4711.example/")
	require.NoError(b, err)
	require.Equal(b, policy.Block, g.Decide(gate.Request{URL: u, Method: "GET", Sight: weburl.Full}).Verdict)
}

// BenchmarkGateStart measures the start of a gate from its disk, with a million entries, until it decides; the anchor is the index alone, built from memory.
func BenchmarkGateStart(b *testing.B) {
	m := newMillion(b)
	rounds.Measure(b, func(b *testing.B) {
		for b.Loop() {
			m.start(b)
		}
	}, func(b *testing.B) {
		for b.Loop() {
			m.index()
		}
	})
}

// BenchmarkGatePublish measures one edit of a million entries that is live, until a gate elsewhere decides by it: the edition is made, what is new of it moves, and
// the gate compiles it. The anchor is the index alone.
func BenchmarkGatePublish(b *testing.B) {
	m := newMillion(b)
	follower := edition.NewFollower(time.Now)
	follow := func(b *testing.B) {
		b.Helper()
		all, manifests := m.folder.editions(m.identity.ServiceKey)
		require.NotEmpty(b, all)
		read := &parcel.Edition{Manifest: manifests[0], Source: m.folder, Earlier: manifests[1:]}
		_, err := follower.Follow(b.Context(), read, read.Catalogue(), manifests[0].Revision, "UTC")
		require.NoError(b, err)
	}
	follow(b)
	n := 0
	rounds.Measure(b, func(b *testing.B) {
		for b.Loop() {
			b.StopTimer()
			n++
			_, _, err := m.h.Store.MergeEntries(b.Context(), m.list, revision.NewBatch(pattern.MustParse(fmt.Sprintf("fresh-%d.example", n))), revision.Merging{}, 0, access.Setup)
			require.NoError(b, err)
			m.publish(b)
			b.StartTimer()
			m.fetch(b)
			follow(b)
		}
	}, func(b *testing.B) {
		for b.Loop() {
			m.index()
		}
	})
}

// BenchmarkGateBytes tells how many bytes of one edit travel, beside those of the whole list, compressed as one file.
func BenchmarkGateBytes(b *testing.B) {
	m := newMillion(b)
	packer, err := zstd.NewWriter(nil)
	require.NoError(b, err)
	whole := len(packer.EncodeAll([]byte(strings.Join(m.names, "\n")), nil))
	least, most, sum, n := 1e18, 0.0, 0.0, 0
	for b.Loop() {
		n++
		_, _, err := m.h.Store.MergeEntries(b.Context(), m.list, revision.NewBatch(pattern.MustParse(fmt.Sprintf("fresh-%d.example", n))), revision.Merging{}, 0, access.Setup)
		require.NoError(b, err)
		m.publish(b)
		share := 1e6 * float64(m.fetch(b)) / float64(whole)
		least, most, sum = min(least, share), max(most, share), sum+share
	}
	b.ReportMetric(0, "ns/op")
	b.ReportMetric(sum/float64(n), "ppm")
	b.ReportMetric(most, "ppm-high")
	b.ReportMetric(least, "ppm-low")
}
