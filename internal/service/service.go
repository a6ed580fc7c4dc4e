package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"sync"
	"syscall"
	"time"

	"github.com/alexedwards/scs/pgxstore"
	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/alert"
	"widelark/internal/audit"
	"widelark/internal/catalogue"
	"widelark/internal/check"
	"widelark/internal/delivery"
	"widelark/internal/desk"
	"widelark/internal/directories"
	"widelark/internal/dispatch"
	"widelark/internal/edition"
	"widelark/internal/forward"
	"widelark/internal/httpapi"
	"widelark/internal/journal/archive"
	"widelark/internal/journal/tally"
	"widelark/internal/journal/usage"
	"widelark/internal/lookup"
	"widelark/internal/outbound"
	"widelark/internal/postgres"
	"widelark/internal/replay"
	"widelark/internal/report"
	"widelark/internal/revision"
	"widelark/internal/secret"
	"widelark/internal/standing"
	"widelark/internal/subscription"
	"widelark/internal/traffic"
	"widelark/internal/upkeep"
	"widelark/web"
)

// Service is a running service. Close it in order with Close.
type Service struct {
	Authenticator *account.Authenticator
	URL           string // where the console and the API are

	store   *postgres.Store
	records *archive.Archive
	pulls   *subscription.Runner
	gates   []*running // nil for none

	stopWork func()         // ends what runs all the time, but for the server
	work     sync.WaitGroup // what runs all the time
	beside   []func()       // each ends work that others began in the background, and waits for it

	server *http.Server
	failed chan error // has the reason where the server ended by itself
}

// Listen reserves the address, so that a port in use is reported before anything else is started.
func Listen(address string) (net.Listener, error) {
	listener, err := net.Listen("tcp", address)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return nil, fmt.Errorf("%s is in use by another program: stop that, or choose another address with --listen", address)
	case errors.Is(err, syscall.EACCES):
		return nil, fmt.Errorf("%s may only be used by root: choose a port above 1023 with --listen", address)
	case err != nil:
		return nil, fmt.Errorf("the service cannot listen on %s: %w", address, err)
	}
	return listener, nil
}

// Start opens the database and serves on listener. It takes over the listener, also where it fails. Log lines go to
// logs.
func Start(ctx context.Context, config Config, listener net.Listener, logs io.Writer, version string) (_ *Service, err error) {
	defer func() {
		if err != nil {
			_ = listener.Close()
		}
	}()
	level, err := config.level()
	if err != nil {
		return nil, err
	}
	zone, err := config.zone()
	if err != nil {
		return nil, err
	}
	now, err := config.clock()
	if err != nil {
		return nil, err
	}
	ranges, err := config.sourceRanges()
	if err != nil {
		return nil, err
	}
	people, err := config.directory()
	if err != nil {
		return nil, err
	}
	kinds := config.kinds()
	wanted, err := config.readGates(kinds)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			for _, one := range wanted {
				_ = one.close()
			}
		}
	}()
	var box *secret.Box
	if config.SecretFile != "" {
		if box, err = secret.Load(config.SecretFile); err != nil {
			return nil, err
		}
	}
	passing := box // seals what is opened again soon
	if passing == nil {
		passing = secret.Passing()
	}
	provider, err := config.provider(passing, time.Now)
	if err != nil {
		return nil, err
	}
	log := slog.New(withoutRepeats(slog.NewJSONHandler(logs, &slog.HandlerOptions{Level: level})))
	if config.DatabaseURL == "" {
		return nil, errors.New("which database? Give --database-url postgres://USER@HOST/NAME, or run `widelarkd demo`, which brings its own")
	}
	mailer, err := config.mailer()
	if err != nil {
		return nil, err
	}
	store, err := postgres.Open(ctx, config.DatabaseURL)
	if err != nil {
		return nil, err
	}
	authenticator := account.NewAuthenticator(store, account.DefaultCost, box)
	sessions := pgxstore.NewWithCleanupInterval(store.Pool(), 0) // the store's own clean-up cannot be waited for; see removeExpired
	cache, facts := catalogue.NewCache(store, log), standing.NewSource(store, now)
	editions := edition.New(store, cache, zone, now)
	editions.Log = log
	records := archive.New(store.Records(), config.JournalMemory<<20)
	asked := &traffic.Source{SeenStore: store, Journal: records, Now: now}
	examiner := upkeep.NewExaminer(store, asked, editions)
	checks := &check.Checker{Store: store, Editions: editions, Lists: store, Categories: store, Traffic: examiner, Publishing: store, Journal: records, Usage: store, Now: time.Now, Log: log}
	packs := &catalogue.Puller{Client: outbound.Client(ranges), Store: store, Cache: cache, Now: time.Now}
	puller := &subscription.Puller{Client: outbound.Client(ranges), Store: store, Now: time.Now, Pulled: func(ctx context.Context) { _ = editions.Prepare(ctx) }}
	roots, err := config.directoryRoots()
	if err != nil {
		store.Close()
		return nil, err
	}
	syncer := &directories.Syncer{
		Store: store, Reader: &directories.Reader{Ranges: ranges, Roots: roots, Client: outbound.Client(ranges), Box: box, Resources: store}, Now: time.Now,
		Changed: func(ctx context.Context) { _ = editions.Prepare(ctx) }, Log: log,
	}
	front := &desk.Desk{Store: store, Editions: editions, Authenticator: authenticator, Now: now, DemoPassword: config.demoPassword, Directory: people}
	elsewhere := &dispatch.Dispatch{Store: store, Facts: facts, Secret: box, Zone: config.TimeZone, Now: now, Log: log}
	counts := &tally.Counter{Archive: records, Editions: editions, Called: store, Zone: zone, Now: now}
	maker := &report.Maker{Tally: counts, Zone: zone, Now: now}
	reports := &report.Sender{Items: store, Maker: maker, Organisation: config.Organisation, Console: config.ConsoleURL, Log: log}
	alerts := &alert.Watcher{
		Items: store, Store: store, Tally: counts, Gates: store, Packs: store, Versions: store, Checks: checks, Zone: zone, Now: now, Organisation: config.Organisation, Console: config.ConsoleURL, Log: log,
	}
	forwards := &forward.Runner{Items: store, Store: store, Archive: records, Tally: counts, Ranges: ranges, Host: hostName(), Version: version, Now: now, Log: log}
	deliverer := &delivery.Deliverer{Store: store, Senders: map[delivery.How]delivery.Sender{delivery.ByHook: &delivery.Poster{Client: outbound.Client(ranges), Box: box}}, Log: log}
	if mailer != nil {
		deliverer.Senders[delivery.ByMail] = mailer
	}
	s := &Service{
		Authenticator: authenticator, URL: "http://" + listener.Addr().String(), store: store, records: records, failed: make(chan error, 1),
	}
	s.server = &http.Server{
		Handler: httpapi.Handler(httpapi.Parts{
			Accounts: store, Authenticator: authenticator, Passkeys: &account.Passkeys{Store: store, Box: passing, Name: "Wide Lark, " + config.Organisation}, Provider: provider, Store: store, Editions: editions, Examiner: examiner,
			Seen: store, Sources: store, Puller: puller, Categories: store, Packs: store, Directories: store, DirectorySyncer: syncer, PackPuller: packs, Cache: cache, Finder: lookup.NewFinder(editions, cache, store, lookupStore{store, asked}), Schedules: store, Objects: store, Publishing: store, Journal: store, Archive: records, Called: store, Tally: counts, Watching: store, Reports: reports, Alerts: alerts, Incidents: store, Forwards: store, Outbox: store, Eraser: store, Mails: mailer != nil, Usage: store, Audit: store, Standing: store, Facts: facts, Gates: store, Desk: front, Dispatch: elsewhere, Batches: store.AsGates(), Requests: store, Passages: store, Passwords: store, Secret: box, Versions: store, Checks: checks, Replayer: &replay.Replayer{Journal: records, Now: time.Now}, Zone: zone, Now: now, Alive: store.Ping, Silent: store.Silent, Console: web.Console(), Log: log, Version: version,
			Names: config.names(), Organisation: config.Organisation, ConsoleURL: config.ConsoleURL,
			Sessions: httpapi.NewSessions(sessions, config.SecureCookies),
		}),
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		ErrorLog:          slog.NewLogLogger(log.Handler(), slog.LevelWarn),
	}
	if err := cache.Load(ctx); err != nil {
		s.store.Close()
		return nil, fmt.Errorf("the catalogue cannot be read: %w", err)
	}
	if err := editions.Prepare(ctx); err != nil {
		s.store.Close()
		return nil, fmt.Errorf("the draft cannot be read: %w", err)
	}
	if s.pulls, err = subscription.Start(context.WithoutCancel(ctx), store.Pool(), puller, packs, syncer, log); err != nil {
		s.store.Close()
		return nil, fmt.Errorf("the work in the background cannot begin: %w", err)
	}
	working, stop := context.WithCancel(context.WithoutCancel(ctx))
	s.stopWork = sync.OnceFunc(stop)
	s.beside = []func(){syncer.Close, checks.Close, cache.Close, editions.Close}
	s.work.Go(func() { checks.KeepPublishing(working, log) })
	s.work.Go(func() { removeExpired(working, store, log) })
	s.work.Go(func() { sealAudit(working, store, box, log) })
	counter := &usage.Counter{Store: store, Archive: records}
	s.work.Go(func() { keepRecords(working, store, counter, alerts, config, log) })
	s.work.Go(func() { mergeRecords(working, store, log) })
	s.work.Go(func() { records.Watch(working) })
	s.work.Go(func() { reports.Run(working) })
	s.work.Go(func() { alerts.Run(working) })
	s.work.Go(func() { forwards.Run(working) })
	s.work.Go(func() { deliverer.Run(working) })
	if mailer != nil {
		told := &desk.Mailer{Requests: store, Practices: store, Outbox: store, Organisation: config.Organisation, Console: config.ConsoleURL, Log: log}
		s.work.Go(func() { told.Run(working) })
	}
	s.work.Go(func() {
		if err := s.server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
			s.failed <- err
		}
	})
	fed := &inside{log: log, editions: editions, facts: facts, secret: box, authorities: store}
	for _, kind := range kinds {
		s.gates = append(s.gates, wanted[kind].start(config, parts{
			name: config.gateName(kind, len(kinds) > 1), desk: front, records: store.AsGates(), now: now, log: log, failed: s.failed,
			begin: func(g *running) {
				fed.gates, fed.signs, fed.renewed = append(fed.gates, g), uuid.Nil, time.Time{}
				fed.once(ctx)
			},
		}))
	}
	if len(s.gates) > 0 {
		s.work.Go(func() { fed.feed(s.gates[0].working) })
	}
	log.Info("serving", "url", s.URL, "version", version)
	return s, nil
}

// Failed receives the reason if the server ends by itself.
func (s *Service) Failed() <-chan error { return s.failed }

// Close waits up to ten seconds for running requests, and then closes the database.
func (s *Service) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	s.records.Close()
	err := s.server.Shutdown(ctx)
	if errors.Is(err, context.DeadlineExceeded) {
		err = s.server.Close()
	}
	for _, g := range s.gates {
		err = errors.Join(err, g.close())
	}
	pulled, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	s.stopWork()
	err = errors.Join(err, s.pulls.Stop(pulled))
	s.work.Wait()
	for _, end := range s.beside {
		end()
	}
	s.store.Close()
	return err
}

// lookupStore is what lookups read: the store, but for the traffic.
type lookupStore struct {
	*postgres.Store
	asked *traffic.Source
}

// EachSeen implements [revision.SeenStore].
func (s lookupStore) EachSeen(ctx context.Context, each func(revision.SeenPage) error) error {
	return s.asked.EachSeen(ctx, each)
}

// SeenVersion implements [revision.SeenStore].
func (s lookupStore) SeenVersion(ctx context.Context) (string, error) {
	return s.asked.SeenVersion(ctx)
}

// hostName returns the name of this machine; "" where it has none.
func hostName() string {
	name, err := os.Hostname()
	if err != nil {
		return ""
	}
	return name
}

// removeExpired periodically removes expired sessions, until the context ends.
func removeExpired(ctx context.Context, store *postgres.Store, log *slog.Logger) {
	tick := time.NewTicker(10 * time.Minute)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if err := store.RemoveExpired(ctx, access.Timetable); err != nil && ctx.Err() == nil {
			log.WarnContext(ctx, "sessions that have run out could not be removed; it is tried again", "error", err)
		}
	}
}

// sealEvery is how often new events of the audit log are sealed.
const sealEvery = 2 * time.Second

// sealAudit seals the events of the audit log soon after they are written, until the context ends.
func sealAudit(ctx context.Context, store *postgres.Store, box *secret.Box, log *slog.Logger) {
	var key []byte
	if box != nil {
		key = box.Key(audit.SealPurpose)
	}
	tick := time.NewTicker(sealEvery)
	defer tick.Stop()
	whole := true // at first
	for {
		more, err := store.SealAudit(ctx, key, whole, access.Timetable)
		if err != nil && ctx.Err() == nil {
			log.WarnContext(ctx, "the audit log could not be sealed; it is tried again", "error", err)
		}
		if more && err == nil {
			continue
		}
		whole = whole && err != nil
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// mergeRecords moves records into the parts that searches read fast, until the context ends.
func mergeRecords(ctx context.Context, store *postgres.Store, log *slog.Logger) {
	for more := true; more && ctx.Err() == nil; {
		var err error
		if more, err = store.MoveRows(ctx, access.Timetable); err != nil && ctx.Err() == nil {
			log.ErrorContext(ctx, "records of an earlier version could not be moved; it is tried again when the service starts", "error", err)
		}
	}
	const often = 5 * time.Second
	tick := time.NewTicker(often)
	defer tick.Stop()
	for {
		for more := true; more && ctx.Err() == nil; {
			var err error
			if more, err = store.MergeParts(ctx, time.Now(), access.Timetable); err != nil && ctx.Err() == nil {
				log.WarnContext(ctx, "parts of the journal could not be put together; it is tried again", "error", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// countOften is how often new records are counted by what is used.
const countOften = 20 * time.Second

// keepRecords counts by days what is used, and drops records whose time is over and which are counted: when the service starts, and every hour, until the context ends.
func keepRecords(ctx context.Context, store *postgres.Store, counter *usage.Counter, alerts *alert.Watcher, config Config, log *slog.Logger) {
	tick := time.NewTicker(countOften)
	defer tick.Stop()
	var kept time.Time
	for {
		now := time.Now()
		err := counter.Count(ctx, now)
		if err == nil && now.Sub(kept) > time.Hour {
			var dropped []string
			if dropped, err = store.KeepRecords(ctx, map[policy.Amount]time.Time{
				policy.Everything: now.AddDate(0, 0, -config.KeepDays), policy.GroupOnly: now.AddDate(0, 0, -config.KeepGroupDays),
			}, access.Timetable); err == nil {
				kept = now
			}
			err = errors.Join(err, alerts.Keep(ctx))
			if len(dropped) > 0 {
				log.InfoContext(ctx, "old records were dropped", "parts", dropped)
			}
		}
		if err != nil && ctx.Err() == nil {
			log.WarnContext(ctx, "records could not be counted by what is used, and old ones not be dropped; it is tried again", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}
