package outpost

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"widelark/client"
	"widelark/internal/parcel"
)

// Bounds of what is read of the service.
const (
	mostLine  = 512 << 20 // bytes of a message: the first holds all standing facts
	mostPart  = 64 << 20  // bytes of a compressed part
	mostParts = 128       // parts that are asked for at once
)

// listen opens the stream and takes messages until it breaks off.
func (o *Outpost) listen(ctx context.Context) error {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	nonce := make([]byte, 16)
	_, _ = rand.Read(nonce) // it cannot fail
	quiet := time.AfterFunc(silence, func() { stop(errors.New("the service is silent")) })
	defer quiet.Stop()
	answer, err := o.api.FollowGate(ctx, &client.FollowGateParams{Nonce: base64.RawURLEncoding.EncodeToString(nonce)})
	if err != nil {
		return errors.Join(err, context.Cause(ctx))
	}
	defer answer.Body.Close()
	lines := bufio.NewScanner(answer.Body)
	lines.Buffer(make([]byte, 0, 64<<10), mostLine)
	for sequence := uint64(0); lines.Scan(); sequence++ {
		m, err := parcel.OpenMessage(lines.Bytes(), nonce, sequence, o.ServiceKey)
		if err != nil {
			return err
		}
		quiet.Stop() // taking an edition takes as long as it takes
		if err := o.apply(ctx, m); err != nil {
			if ctx.Err() != nil {
				return err
			}
			o.setTrouble(err.Error())
			o.Log.WarnContext(ctx, "the gate goes on with what it has", "error", err)
		} else {
			o.setTrouble("")
		}
		o.store(false)
		quiet.Reset(silence)
	}
	return errors.Join(errors.New("the stream broke off"), lines.Err(), context.Cause(ctx))
}

// fetch fetches an edition, of which only what is not on the disk travels, and puts it in force.
func (o *Outpost) fetch(ctx context.Context, number int64) error {
	begin := time.Now()
	answer, err := o.api.GetEditionWithResponse(ctx, number)
	if err != nil {
		return err
	}
	e := parcel.Signed{Number: number, Manifest: answer.JSON200.Manifest, Signature: answer.JSON200.Signature}
	m, err := e.Open(o.ServiceKey)
	if err != nil {
		return err
	}
	fetched, bytes, err := o.fetchAll(ctx, m)
	if err != nil {
		return err
	}
	if err := o.follow(ctx, m, e); err != nil {
		return err
	}
	o.Log.InfoContext(ctx, "the gate has taken an edition", "number", number, "revision", m.Revision, "parts", fetched, "bytes", bytes+len(e.Manifest), "ms", time.Since(begin).Milliseconds())
	if err := o.Folder.putEdition(e); err != nil {
		return fmt.Errorf("the edition cannot be stored: %w", err)
	}
	return o.tidy()
}

// keptOnDisk is how many good editions stay on the disk.
const keptOnDisk = 2

// tidy removes what neither a start nor the next edition needs.
func (o *Outpost) tidy() error {
	all, manifests := o.Folder.editions(o.ServiceKey)
	var numbers []int64
	for i := range all[:min(len(all), keptOnDisk)] {
		numbers = append(numbers, all[i].Number)
	}
	needed := manifests[:min(len(all), keptOnDisk)]
	needs := o.follower.Needs()
	o.earlier = slices.DeleteFunc(o.earlier, func(m *parcel.Manifest) bool { return !slices.Contains(needs, m.Version) })
	return o.Folder.keep(numbers, append(slices.Clone(needed), o.earlier...))
}

// fetchAll fetches the parts of an edition that are not on the disk.
func (o *Outpost) fetchAll(ctx context.Context, m *parcel.Manifest) (parts, bytes int, err error) {
	get := func(wanted []parcel.Digest) error {
		wanted = slices.DeleteFunc(wanted, o.Folder.hasPart)
		slices.SortFunc(wanted, func(a, b parcel.Digest) int { return slices.Compare(a[:], b[:]) })
		wanted = slices.Compact(wanted)
		for some := range slices.Chunk(wanted, mostParts) {
			size, err := o.fetchSome(ctx, some)
			if err != nil {
				return err
			}
			parts, bytes = parts+len(some), bytes+size
		}
		return nil
	}
	for n := range parcel.Layers {
		layer, err := m.Layer(n, o.Folder)
		if err == nil {
			err = get(layer)
		}
		if err != nil {
			return parts, bytes, err
		}
	}
	return parts, bytes, nil
}

// fetchSome fetches parts, and returns how many bytes came.
func (o *Outpost) fetchSome(ctx context.Context, wanted []parcel.Digest) (bytes int, err error) {
	body := client.FetchPartsJSONRequestBody{}
	for _, d := range wanted {
		body.Digests = append(body.Digests, d.String())
	}
	answer, err := o.api.FetchParts(ctx, body)
	if err != nil {
		return 0, err
	}
	defer answer.Body.Close()
	in := bufio.NewReaderSize(answer.Body, 256<<10)
	for range wanted {
		var d parcel.Digest
		if _, err := io.ReadFull(in, d[:]); err != nil {
			return bytes, fmt.Errorf("the service does not have all parts any more: %w", err)
		}
		size, err := binary.ReadUvarint(in)
		if err != nil || size > mostPart {
			return bytes, fmt.Errorf("the part %s cannot be read: %w", d, errors.Join(err, parcel.ErrDamaged))
		}
		packed := make([]byte, size)
		if _, err := io.ReadFull(in, packed); err != nil {
			return bytes, err
		}
		if err := o.Folder.putPart(d, packed); err != nil {
			return bytes, err
		}
		bytes += len(d) + len(packed)
	}
	return bytes, nil
}
