package subscription

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"

	"widelark/internal/access"
	"widelark/internal/catalogue"
	"widelark/internal/directories"
	"widelark/internal/outbound"
	"widelark/internal/revision"
)

// pullArgs is a source to pull.
type pullArgs struct {
	ListID uuid.UUID `json:"list_id" river:"unique"`
}

// Kind implements [river.JobArgs].
func (pullArgs) Kind() string { return "pull_list" }

// InsertOpts keeps a source in the queue at most once.
func (pullArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{MaxAttempts: 3, UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{
		rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRetryable, rivertype.JobStateRunning, rivertype.JobStateScheduled,
	}}}
}

type pullPackArgs struct {
	PackID uuid.UUID `json:"pack_id" river:"unique"`
}

// Kind implements [river.JobArgs].
func (pullPackArgs) Kind() string { return "pull_pack" }

// InsertOpts keeps a pack in the queue at most once.
func (pullPackArgs) InsertOpts() river.InsertOpts { return pullArgs{}.InsertOpts() }

// syncArgs is a directory to read.
type syncArgs struct {
	DirectoryID uuid.UUID `json:"directory_id" river:"unique"`
}

// Kind implements [river.JobArgs].
func (syncArgs) Kind() string { return "sync_directory" }

// InsertOpts keeps a directory in the queue at most once.
func (syncArgs) InsertOpts() river.InsertOpts { return pullArgs{}.InsertOpts() }

// dueArgs is the job that queues sources that are due.
type dueArgs struct{}

func (dueArgs) Kind() string { return "pull_due_lists" }

type pullWorker struct {
	river.WorkerDefaults[pullArgs]
	puller *Puller
}

// Timeout gives a slow source enough time.
func (w *pullWorker) Timeout(*river.Job[pullArgs]) time.Duration {
	return outbound.WaitForAll + time.Minute
}

func (w *pullWorker) Work(ctx context.Context, job *river.Job[pullArgs]) error {
	source, err := w.puller.Store.Source(ctx, job.Args.ListID)
	if errors.Is(err, revision.ErrNotFound) { // taken away meanwhile
		return nil
	}
	if err == nil {
		_, err = w.puller.Pull(ctx, source)
	}
	return err
}

type pullPackWorker struct {
	river.WorkerDefaults[pullPackArgs]
	puller *catalogue.Puller
}

// Timeout gives a slow source enough time.
func (w *pullPackWorker) Timeout(*river.Job[pullPackArgs]) time.Duration { return time.Hour }

func (w *pullPackWorker) Work(ctx context.Context, job *river.Job[pullPackArgs]) error {
	pack, err := w.puller.Store.Pack(ctx, job.Args.PackID)
	if errors.Is(err, revision.ErrNotFound) { // taken away meanwhile
		return nil
	}
	if err == nil {
		_, err = w.puller.Pull(ctx, pack, false)
	}
	return err
}

type syncWorker struct {
	river.WorkerDefaults[syncArgs]
	syncer *directories.Syncer
}

// Timeout gives a slow directory enough time.
func (w *syncWorker) Timeout(*river.Job[syncArgs]) time.Duration {
	return outbound.WaitForAll + time.Minute
}

func (w *syncWorker) Work(ctx context.Context, job *river.Job[syncArgs]) error {
	d, err := w.syncer.Store.Directory(ctx, job.Args.DirectoryID)
	if errors.Is(err, revision.ErrNotFound) { // taken away meanwhile
		return nil
	}
	if err == nil {
		_, err = w.syncer.Sync(ctx, d, false, access.Subscription)
	}
	var busy *directories.RefusedError
	if errors.As(err, &busy) { // somebody has it read just now
		return nil
	}
	return err
}

type dueWorker struct {
	river.WorkerDefaults[dueArgs]
	puller *Puller
	packs  *catalogue.Puller
	syncer *directories.Syncer
}

func (w *dueWorker) Work(ctx context.Context, _ *river.Job[dueArgs]) error {
	lists, err := w.puller.Store.DueSources(ctx, w.puller.Now())
	if err != nil {
		return err
	}
	packs, err := w.packs.Store.DuePacks(ctx, w.packs.Now())
	if err != nil {
		return err
	}
	var due []river.JobArgs
	for _, source := range lists {
		due = append(due, pullArgs{source.ListID})
	}
	for _, pack := range packs {
		due = append(due, pullPackArgs{pack.ID})
	}
	people, err := w.syncer.Store.DueDirectories(ctx, w.syncer.Now())
	if err != nil {
		return err
	}
	for _, d := range people {
		due = append(due, syncArgs{d.ID})
	}
	queue := river.ClientFromContext[pgx.Tx](ctx)
	for _, job := range due {
		if _, err := queue.Insert(ctx, job, nil); err != nil {
			return err
		}
	}
	return nil
}

// lookEvery is the interval of the search for sources that are due.
const lookEvery = 30 * time.Second

// Runner pulls sources in the background. Several services may run one on the same database: each source is pulled by one of
// them.
type Runner struct{ queue *river.Client[pgx.Tx] }

// Start begins pulling; Stop ends it.
func Start(ctx context.Context, pool *pgxpool.Pool, puller *Puller, packs *catalogue.Puller, syncer *directories.Syncer, log *slog.Logger) (*Runner, error) {
	workers := river.NewWorkers()
	river.AddWorker(workers, &pullWorker{puller: puller})
	river.AddWorker(workers, &pullPackWorker{puller: packs})
	river.AddWorker(workers, &syncWorker{syncer: syncer})
	river.AddWorker(workers, &dueWorker{puller: puller, packs: packs, syncer: syncer})
	queue, err := river.NewClient(riverpgxv5.New(pool), &river.Config{
		Logger:  slog.New(quiet{log.Handler()}),
		Queues:  map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 2}},
		Workers: workers,
		PeriodicJobs: []*river.PeriodicJob{river.NewPeriodicJob(river.PeriodicInterval(lookEvery), func() (river.JobArgs, *river.InsertOpts) {
			return dueArgs{}, &river.InsertOpts{UniqueOpts: river.UniqueOpts{ByPeriod: lookEvery}}
		}, &river.PeriodicJobOpts{RunOnStart: true})},
	})
	if err != nil {
		return nil, err
	}
	return &Runner{queue}, queue.Start(ctx)
}

// Stop waits for running pulls until ctx ends, and then cancels them; they are repeated after the next start.
func (r *Runner) Stop(ctx context.Context) error {
	if err := r.queue.Stop(ctx); err != nil {
		return r.queue.StopAndCancel(context.WithoutCancel(ctx))
	}
	return nil
}

// quiet passes on only log records that require action.
type quiet struct{ slog.Handler }

// Enabled reports whether a level is one to act on.
func (q quiet) Enabled(ctx context.Context, level slog.Level) bool {
	return level >= slog.LevelWarn && q.Handler.Enabled(ctx, level)
}
