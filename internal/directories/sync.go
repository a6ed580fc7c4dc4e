package directories

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/peoplefile"
	"widelark/internal/revision"
)

// Syncer brings directories up to date. It is safe for concurrent use.
type Syncer struct {
	Store   Store
	Reader  *Reader
	Now     func() time.Time
	Changed func(context.Context) // called when something else is in force; nil for nothing
	Log     *slog.Logger
	running sync.Map // uuid.UUID -> struct{}

	mu     sync.Mutex
	sent   map[uuid.UUID]time.Time // of directories that are read soon: when a program sent something last
	closed bool
	life   context.Context // of what is read soon; it ends with Close
	end    context.CancelFunc
	work   sync.WaitGroup
}

// A directory that programs send people of is read once nothing has come for a while, and at the latest some time after the first.
const (
	quiet  = time.Second
	latest = 10 * time.Second
)

// Soon has a directory read that a program has sent something of. It does not wait.
func (s *Syncer) Soon(id uuid.UUID) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return
	}
	if s.sent == nil {
		s.sent = map[uuid.UUID]time.Time{}
		s.life, s.end = context.WithCancel(context.Background())
	}
	_, planned := s.sent[id]
	s.sent[id] = time.Now()
	if !planned {
		s.work.Go(func() { s.readSent(id) })
	}
}

func (s *Syncer) readSent(id uuid.UUID) {
	for first := time.Now(); ; {
		select {
		case <-s.life.Done(): // the timetable has it read again
			return
		case <-time.After(quiet / 4):
		}
		s.mu.Lock()
		still := time.Since(s.sent[id]) < quiet && time.Since(first) < latest
		if !still {
			delete(s.sent, id)
		}
		s.mu.Unlock()
		if !still {
			break
		}
	}
	d, err := s.Store.Directory(s.life, id)
	if err == nil {
		_, err = s.Sync(s.life, d, false, access.Subscription)
	}
	var busy *RefusedError
	switch {
	case err == nil, s.life.Err() != nil, errors.Is(err, revision.ErrNotFound):
	case errors.As(err, &busy):
		s.Soon(id)
	default:
		s.Log.Warn("what programs sent of a directory could not be taken; the timetable has it read again", "directory", d.Name, "error", err)
	}
}

// Close ends what [Syncer.Soon] began, and waits for it.
func (s *Syncer) Close() {
	s.mu.Lock()
	s.closed = true
	if s.end != nil {
		s.end()
	}
	s.mu.Unlock()
	s.work.Wait()
}

// soonest is how soon a directory is read again after it failed, where it is read less often than that.
const soonest = 10 * time.Minute

// Sync reads a directory and takes what it says, and keeps how it went. What is wrong at its source is kept with the directory and is not an error: the state in force stays. With
// anyway, nothing waits.
func (s *Syncer) Sync(ctx context.Context, d Directory, anyway bool, by access.Actor) (Directory, error) {
	return s.once(ctx, d, func() (Directory, error) {
		now := s.Now()
		d.TriedAt, d.NextAt = &now, now.Add(d.Every)
		file, err := s.read(ctx, &d)
		if err == nil {
			return s.take(ctx, d, file, anyway, by)
		}
		if ctx.Err() != nil {
			return d, ctx.Err()
		}
		d.Result, d.Told, d.LeftOut = revision.PullFailed, upper(err.Error())+". The state in force stays.", nil
		if d.NextAt.Sub(now) > soonest {
			d.NextAt = now.Add(soonest)
		}
		return s.keep(ctx, d, by)
	})
}

func (s *Syncer) read(ctx context.Context, d *Directory) (peoplefile.File, error) {
	if d.Kind == File && d.URL == "" {
		return peoplefile.File{}, errors.New("it has no address to be read from: its file is handed over")
	}
	return s.Reader.Read(ctx, d)
}

// Import takes a file that somebody hands over for a directory.
func (s *Syncer) Import(ctx context.Context, d Directory, from io.Reader, anyway bool, by access.Actor) (Directory, error) {
	return s.once(ctx, d, func() (Directory, error) {
		if d.Kind != File {
			return d, &RefusedError{"Files are for directories of the kind file"}
		}
		file, err := ReadFile(from, peoplefile.Attributes{Name: d.NameField, Stable: d.KeyField})
		if err != nil {
			return d, err
		}
		now := s.Now()
		d.TriedAt, d.NextAt = &now, now.Add(d.Every)
		return s.take(ctx, d, file, anyway, by)
	})
}

// Preview reads a directory and says what taking it would change, and what could not be used.
func (s *Syncer) Preview(ctx context.Context, d Directory, by access.Actor) (taken Taken, left []string, err error) {
	file, err := s.read(ctx, &d)
	if err != nil {
		return taken, nil, &RefusedError{upper(err.Error())}
	}
	items, left, err := Items(d.ID, file)
	if err == nil {
		taken, err = s.Store.TakeDirectory(ctx, d.ID, items, Taking{By: by, Preview: true})
	}
	return taken, left, err
}

// once refuses a second reading of a directory beside another of this service.
func (s *Syncer) once(ctx context.Context, d Directory, do func() (Directory, error)) (Directory, error) {
	if _, busy := s.running.LoadOrStore(d.ID, struct{}{}); busy {
		return d, &RefusedError{"The directory is being read already"}
	}
	defer s.running.Delete(d.ID)
	after, err := do()
	if err == nil && s.Changed != nil && after.InForce != nil && (d.InForce == nil || d.InForce.Number != after.InForce.Number) {
		s.Changed(ctx)
	}
	return after, err
}

func (s *Syncer) take(ctx context.Context, d Directory, file peoplefile.File, anyway bool, by access.Actor) (Directory, error) {
	items, left, err := Items(d.ID, file)
	if err != nil {
		return d, err
	}
	taken, err := s.Store.TakeDirectory(ctx, d.ID, items, Taking{By: by, Anyway: anyway})
	if err != nil {
		return d, err
	}
	now := s.Now()
	d.SyncedAt, d.LeftOut = &now, left
	d.Result, d.Told = revision.PullUnchanged, "Nothing has changed."
	if d.Waiting != nil {
		d.Told = "Nothing has changed since the state that waits."
	}
	if st := taken.State; st != nil {
		d.Result, d.Told = revision.PullChanged, fmt.Sprintf("%d people and %d groups: %d came, %d changed, %d went.", st.People, st.Groups, st.Came, st.Changed, st.Went)
		if len(taken.Why) > 0 {
			d.Told += " It waits until somebody accepts it: " + strings.Join(taken.Why, "; ") + "."
		}
	}
	return s.keep(ctx, d, by)
}

// keep keeps how reading went.
func (s *Syncer) keep(ctx context.Context, d Directory, by access.Actor) (Directory, error) {
	if err := s.Store.KeepDirectorySync(ctx, d, by); err != nil {
		return d, err
	}
	return s.Store.Directory(ctx, d.ID)
}

// Running reports whether a directory is being read here.
func (s *Syncer) Running(id uuid.UUID) bool {
	_, busy := s.running.Load(id)
	return busy
}

// upper returns a text that begins with a capital letter.
func upper(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}
