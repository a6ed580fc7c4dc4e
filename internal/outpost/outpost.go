// Package outpost is a gate elsewhere's side of the service: it enrols, keeps the last editions on the disk and starts from them, follows what changes, and
// hands in records, which wait on the disk while the service is away.
//
// From: the API, by package client, and the gate's folder.
// To: editions for the gate, and [gate.Desk].
package outpost

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"widelark/client"
	"widelark/core/policy"
	"widelark/internal/edition"
	"widelark/internal/gate"
	"widelark/internal/gate/authority"
	"widelark/internal/journal"
	"widelark/internal/parcel"
)

// Config says how a gate elsewhere works.
type Config struct {
	Folder *Folder
	Now    func() time.Time // the machine's clock
	Lapse  time.Duration    // after so long without the service, presences and unlocked pages count no longer
	Spool  int64            // bytes of records that may wait on the disk
	Log    *slog.Logger

	// Sign is given the authority that opens connections, and the certificates that clients are to trust, in DER.
	Sign func(a *authority.Authority, trust [][]byte)
}

// Outpost keeps a gate in touch with the service. It is safe for concurrent use.
type Outpost struct {
	Config
	Identity
	api    *client.ClientWithResponses
	spool  *spool
	gate   *gate.Gate
	number atomic.Int64 // of the edition that is in force
	state  atomic.Pointer[edition.State]
	said   atomic.Pointer[parcel.Signed] // what is in force

	behind atomic.Int64 // nanoseconds that the database's clock is ahead of the machine's

	mu      sync.Mutex
	problem string // guarded by mu

	// What follows belongs to Run alone.
	follower *edition.Follower
	earlier  []*parcel.Manifest
	facts    parcel.Facts
	heard    time.Time // when the service was heard of last
	lapsed   bool
	kept     time.Time       // when the facts were last stored
	stale    bool            // the facts on the disk are others than these
	behinds  []time.Duration // the last few differences between the clocks
}

// Enrol makes a folder a gate's, with a code of the service at an address.
func Enrol(ctx context.Context, folder *Folder, service, code string) (Identity, error) {
	_, fingerprint, err := parcel.ReadCode(code)
	if err != nil {
		return Identity{}, err
	}
	if known, err := folder.Identity(); err == nil {
		return known, fmt.Errorf("this folder is the gate %q already: start it without --enrol, or give it another folder", known.Name)
	}
	i, err := newIdentity(service)
	if err != nil {
		return i, err
	}
	api, err := client.New(service, "")
	if err != nil {
		return i, err
	}
	seal, err := i.sealKey()
	if err != nil {
		return i, err
	}
	answer, err := api.EnrolWithResponse(ctx, client.EnrolJSONRequestBody{Code: code, Key: i.key().Public().(ed25519.PublicKey), SealKey: seal.PublicKey().Bytes()})
	if err != nil {
		return i, err
	}
	i.ID, i.Name, i.Kind, i.ServiceKey = answer.JSON200.ID, answer.JSON200.Name, policy.Gate(answer.JSON200.Kind), answer.JSON200.ServiceKey
	if !bytes.Equal(parcel.Fingerprint(i.ServiceKey), fingerprint) {
		return i, errors.New("somebody else answered in the service's place: its key is not the one that the code names. Nothing was kept")
	}
	return i, folder.putIdentity(i)
}

// Open returns the outpost of an enrolled gate's folder.
func Open(c Config) (*Outpost, error) {
	o := &Outpost{Config: c, follower: edition.NewFollower(c.Now)}
	var err error
	if o.Identity, err = c.Folder.Identity(); err != nil {
		return nil, err
	}
	o.api, err = client.NewSigned(o.Service, func() (string, error) { return parcel.Token(o.ID.String(), o.key(), o.Now()) })
	if err != nil {
		return nil, err
	}
	o.spool, err = openSpool(c.Folder, c.Spool, c.Log)
	return o, err
}

// Now returns the time by the clock of the database, which is the one that counts, as far as it is known.
func (o *Outpost) Now() time.Time { return o.Config.Now().Add(time.Duration(o.behind.Load())) }

// ahead returns how far the database's clock is ahead of the machine's.
func (o *Outpost) ahead() time.Duration { return time.Duration(o.behind.Load()) }

// Records returns what takes the gate's records.
func (o *Outpost) Records() journal.Batches { return o.spool }

// trouble returns what went wrong lately.
func (o *Outpost) trouble() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.problem
}

func (o *Outpost) setTrouble(problem string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.problem = problem
}

// digest returns the digest of what is in force; "" for nothing.
func (o *Outpost) digest() string {
	if e := o.said.Load(); e != nil {
		return e.Digest().String()
	}
	return ""
}

// onDisk is the facts as they lie on the disk.
type onDisk struct {
	Heard time.Time    `json:"heard"`
	Facts parcel.Facts `json:"facts"`
}

// Start puts the last good edition on the disk in force at a gate, with the facts beside it. Without one, the gate decides as it does without an edition.
func (o *Outpost) Start(ctx context.Context, g *gate.Gate) {
	o.gate = g
	if text, err := os.ReadFile(o.Folder.path("facts.json")); err == nil {
		var kept onDisk
		if err := json.Unmarshal(text, &kept); err != nil {
			o.Log.WarnContext(ctx, "the standing facts on the disk cannot be read; they come anew with the service", "error", err)
		}
		o.facts, o.heard = kept.Facts, kept.Heard
		o.lapsed = o.Config.Now().Sub(o.heard) > o.Lapse
	}
	if text, err := os.ReadFile(o.Folder.path("authority.json")); err == nil {
		a := &parcel.Authority{}
		if err = json.Unmarshal(text, a); err == nil {
			err = o.sign(a)
		}
		if err != nil {
			o.Log.WarnContext(ctx, "the authority on the disk cannot be used; it comes anew with the service", "error", err)
		}
	}
	all, manifests := o.Folder.editions(o.ServiceKey)
	for i, e := range all {
		begin := time.Now()
		if err := o.follow(ctx, manifests[i], e); err != nil {
			o.Log.WarnContext(ctx, "an edition on the disk cannot be used", "number", e.Number, "error", err)
			o.follower = edition.NewFollower(o.Config.Now)
			continue
		}
		o.Log.InfoContext(ctx, "the gate begins with the edition on its disk", "number", e.Number, "revision", manifests[i].Revision, "ms", time.Since(begin).Milliseconds())
		return
	}
}

// follow compiles an edition whose parts are all there, and puts it in force.
func (o *Outpost) follow(ctx context.Context, m *parcel.Manifest, e parcel.Signed) error {
	state, err := o.follower.Follow(ctx, &parcel.Edition{Manifest: m, Source: o.Folder, Earlier: o.earlier}, (&parcel.Edition{Manifest: m, Source: o.Folder}).Catalogue(), m.Revision, m.Zone)
	if err != nil {
		return err
	}
	o.state.Store(state)
	o.number.Store(m.Number)
	o.said.Store(&e)
	o.earlier = append(o.earlier, m)
	o.enforce()
	return nil
}

// enforce puts what is known in force: the edition with the facts that count. A fact that cannot be read is left out.
func (o *Outpost) enforce() {
	state := o.state.Load()
	if state == nil {
		return
	}
	items, err := o.facts.Items()
	if err != nil {
		o.Log.Warn("standing facts cannot be read, and are left out", "error", err)
	}
	facts := items.Facts()
	if o.lapsed {
		facts.Presences, facts.Unlocked = nil, nil
	}
	state = state.With(facts)
	if now := o.gate.Edition(); now == nil || now.Snapshot != state.Snapshot {
		o.gate.Take(&gate.Edition{Revision: state.Revision, Catalogue: state.Catalogue(), Since: o.gate.Now(), Snapshot: state.Snapshot})
	}
}

// sign gives the gate an authority.
func (o *Outpost) sign(a *parcel.Authority) error {
	seal, err := o.sealKey()
	if err != nil {
		return err
	}
	key, err := parcel.Unseal(seal, (&gate.Authority{ID: a.ID}).Purpose(), a.Key)
	if err != nil {
		return err
	}
	opened, err := authority.Open(a.Certificate, key, o.Config.Now)
	if err == nil {
		o.Sign(opened, a.Trust)
	}
	return err
}

// silence is how long the stream may be silent before it is opened anew.
const silence = 10 * time.Second

// Run follows the service until the context ends, and hands in records.
func (o *Outpost) Run(ctx context.Context) {
	var spooling sync.WaitGroup
	spooling.Go(func() {
		o.spool.run(ctx, func(ctx context.Context, id uuid.UUID, packed []byte) error {
			ctx, stop := context.WithTimeout(ctx, time.Minute)
			defer stop()
			_, err := o.api.HandInRecordsWithBodyWithResponse(ctx, id, "application/zstd", bytes.NewReader(packed))
			return err
		})
	})
	defer spooling.Wait()
	said := ""
	for pause := againFirst; ctx.Err() == nil; {
		heard := o.heard
		err := o.listen(ctx)
		if ctx.Err() != nil {
			break
		}
		if o.heard.After(heard) {
			pause, said = againFirst, ""
		}
		if statusOf(err) != 0 {
			o.setTrouble(err.Error())
		}
		if why := err.Error(); why != said {
			said = why
			o.Log.WarnContext(ctx, "the service is away; the gate goes on with what it has", "error", err)
		}
		o.lapse()
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause = min(2*pause, againMost)
	}
	o.store(true)
}

// lapse takes what counts no longer out of force.
func (o *Outpost) lapse() {
	lapsed := o.Config.Now().Sub(o.heard) > o.Lapse
	if lapsed == o.lapsed {
		return
	}
	if o.lapsed = lapsed; lapsed && !o.heard.IsZero() {
		o.Log.Warn("the service has been away for so long that presences and unlocked pages count no longer", "since", o.heard)
	}
	o.enforce()
}

// apply takes a message.
func (o *Outpost) apply(ctx context.Context, m *parcel.Message) error {
	now := o.Config.Now()
	o.behinds = append(o.behinds, m.At.Sub(now))
	o.behinds = o.behinds[max(0, len(o.behinds)-16):]
	o.behind.Store(int64(slices.Max(o.behinds))) // that of the message that was under way for the shortest time
	o.heard = now
	changed := m.Whole || len(m.Put)+len(m.Gone) > 0
	if changed {
		o.facts, o.stale = o.facts.With(m), true
	}
	// What one of these cannot do stops none of the others.
	var errs []error
	if m.Authority != nil {
		if err := o.takeAuthority(m.Authority); err != nil {
			errs = append(errs, fmt.Errorf("the authority cannot be used: %w", err))
		}
	}
	if m.Edition > o.number.Load() {
		if err := o.fetch(ctx, m.Edition); err != nil {
			errs = append(errs, fmt.Errorf("edition %d cannot be taken: %w", m.Edition, err))
		}
	} else if m.Edition < o.number.Load() {
		errs = append(errs, fmt.Errorf("the service has edition %d, and this gate a later one, %d, which it keeps: was the database set back?", m.Edition, o.number.Load()))
	}
	if o.lapse(); changed {
		o.enforce()
	}
	return errors.Join(errs...)
}

// takeAuthority gives the gate an authority, and stores it.
func (o *Outpost) takeAuthority(a *parcel.Authority) error {
	if err := o.sign(a); err != nil {
		return err
	}
	text, err := json.Marshal(a)
	if err == nil {
		err = o.Folder.put(text, true, "authority.json")
	}
	return err
}

// storeEvery is how often facts are stored, at most.
const storeEvery = 2 * time.Second

// store stores the facts on the disk, if they have changed.
func (o *Outpost) store(now bool) {
	if !now && time.Since(o.kept) < storeEvery || !o.stale && time.Since(o.kept) < time.Minute {
		return
	}
	text, err := json.Marshal(onDisk{Heard: o.heard, Facts: o.facts})
	if err == nil {
		err = o.Folder.put(text, false, "facts.json")
	}
	if err != nil {
		o.Log.Warn("standing facts cannot be stored", "error", err)
		return
	}
	o.kept, o.stale = time.Now(), false
}
