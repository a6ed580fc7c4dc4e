package dispatch

import (
	"context"
	"time"

	"github.com/google/uuid"

	"widelark/internal/gate"
	"widelark/internal/parcel"
	"widelark/internal/standing"
)

// How often a gate is told what has changed, and at least that nothing has.
const (
	tellEvery = 400 * time.Millisecond
	beatEvery = time.Second
)

// latest is what gates are to know at a moment.
type latest struct {
	read    time.Time // by the machine's clock
	at      time.Time // by the clock of the database
	edition int64
	items   *standing.Items
	facts   parcel.Facts
}

// look returns what gates are to know now. All streams share one look.
func (d *Dispatch) look(ctx context.Context) (*latest, error) {
	if err := d.looking.Lock(ctx); err != nil {
		return nil, err
	}
	defer d.looking.Unlock()
	if d.latest != nil && time.Since(d.latest.read) < tellEvery/2 {
		return d.latest, nil
	}
	e, err := d.Live(ctx)
	if err != nil {
		return nil, err
	}
	items, err := d.Facts.Items(ctx)
	if err != nil {
		return nil, err
	}
	next := &latest{edition: e.Number, items: items}
	if d.latest != nil && d.latest.items == items {
		next.facts = d.latest.facts
	} else if next.facts, err = parcel.FactsOf(items); err != nil {
		return nil, err
	}
	if next.at, err = d.Store.DatabaseTime(ctx); err != nil {
		return nil, err
	}
	next.read = time.Now()
	d.latest = next
	return next, nil
}

// Stream tells a gate what has changed, until the context ends or send fails. The gate opened the stream with a number of its own, so that no message of another
// stream can stand in this one.
func (d *Dispatch) Stream(ctx context.Context, g gate.Enrolled, nonce []byte, send func(line []byte) error) error {
	key, err := d.key(ctx)
	if err != nil {
		return err
	}
	var told *latest
	var signs uuid.UUID
	trusted := 0
	tick := time.NewTicker(tellEvery)
	defer tick.Stop()
	beat := time.Time{}
	for sequence := uint64(0); ; {
		now, err := d.look(ctx)
		if err != nil {
			return err
		}
		still, err := d.Store.Enrolled(ctx, g.ID)
		if err != nil {
			return err
		} else if still.Retired {
			return gate.ErrRetired
		}
		m := parcel.Message{At: now.at.Add(time.Since(now.read)), Edition: now.edition}
		news := told == nil || told.edition != now.edition
		if told == nil {
			m.Whole, m.Put = true, now.facts
		} else if told.items != now.items {
			m.Put, m.Gone = now.facts.Since(told.facts)
			news = news || len(m.Put)+len(m.Gone) > 0
		}
		if m.Authority, err = d.authority(ctx, g, signs, trusted); err != nil {
			return err
		}
		if m.Authority != nil {
			signs, trusted, news = m.Authority.ID, len(m.Authority.Trust), true
		}
		if news || time.Since(beat) >= beatEvery {
			line, err := parcel.SignMessage(&m, nonce, sequence, key)
			if err != nil {
				return err
			}
			if err := send(line); err != nil {
				return err
			}
			sequence++
			beat = time.Now()
		}
		told = now
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

// authority returns the authority that signs now, sealed for a gate; nil where there is none, or the gate has it already.
func (d *Dispatch) authority(ctx context.Context, g gate.Enrolled, has uuid.UUID, trusts int) (*parcel.Authority, error) {
	all, err := d.Store.Authorities(ctx)
	if err != nil {
		return nil, err
	}
	current := gate.Current(all, d.Now())
	if current == nil {
		return nil, nil
	}
	trust := gate.Trust(all, current)
	if current.ID == has && len(trust) == trusts {
		return nil, nil
	}
	key, err := d.Secret.Open(current.Purpose(), current.SealedKey)
	if err != nil {
		return nil, err
	}
	a := &parcel.Authority{ID: current.ID, Certificate: current.Certificate, Trust: trust}
	a.Key, err = parcel.Seal(g.SealKey, current.Purpose(), key)
	return a, err
}
