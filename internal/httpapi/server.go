// Package httpapi serves the API under /api/v1 and, beside it, the console that uses it. Nothing else reaches the service.
//
// From: HTTP requests.
// To: packages account, revision and trial. Their errors become problem details in problem.go and nowhere else.
package httpapi

import (
	"context"
	"io/fs"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/alexedwards/scs/v2"
	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/alert"
	"widelark/internal/audit"
	"widelark/internal/catalogue"
	"widelark/internal/check"
	"widelark/internal/delivery"
	"widelark/internal/directories"
	"widelark/internal/dispatch"
	"widelark/internal/edition"
	"widelark/internal/forward"
	"widelark/internal/gate"
	"widelark/internal/journal"
	"widelark/internal/journal/archive"
	"widelark/internal/journal/tally"
	"widelark/internal/journal/usage"
	"widelark/internal/lookup"
	"widelark/internal/replay"
	"widelark/internal/report"
	"widelark/internal/revision"
	"widelark/internal/scim"
	"widelark/internal/secret"
	"widelark/internal/signon"
	"widelark/internal/standing"
	"widelark/internal/subscription"
	"widelark/internal/upkeep"
	"widelark/internal/watch"
)

// Parts are what the API gives access to.
type Parts struct {
	Accounts      account.Store
	Authenticator *account.Authenticator
	Passkeys      *account.Passkeys
	Provider      *signon.Provider // nil for none
	Store         revision.Store
	Objects       revision.ObjectStore
	Editions      *edition.Editions
	Examiner      *upkeep.Examiner
	Seen          revision.SeenStore
	Sources       revision.SourceStore
	Puller        *subscription.Puller

	Categories      revision.CategoryStore
	Packs           catalogue.Store
	Directories     directories.Store
	DirectorySyncer *directories.Syncer
	PackPuller      *catalogue.Puller
	Cache           *catalogue.Cache
	Finder          *lookup.Finder
	Schedules       revision.ScheduleStore
	Publishing      revision.PublishStore
	Journal         journal.Store
	Archive         *archive.Archive
	Called          tally.Called
	Tally           *tally.Counter
	Usage           usage.Store
	Watching        watch.Store
	Reports         *report.Sender
	Alerts          *alert.Watcher
	Incidents       alert.Store
	Forwards        forward.Store
	Outbox          delivery.Store
	Eraser          Eraser
	Mails           bool // whether mail can be sent
	Gates           gate.Reports
	Desk            gate.Desk          // of gates elsewhere
	Dispatch        *dispatch.Dispatch // to gates elsewhere
	Batches         journal.Batches    // of records of gates elsewhere
	Requests        standing.Requests
	Passages        standing.Passages
	Passwords       account.PersonPasswords
	Secret          *secret.Box // nil: no authority can be made
	Audit           audit.Log
	Standing        standing.Store
	Facts           *standing.Source
	Versions        check.Store
	Checks          *check.Checker
	Replayer        *replay.Replayer
	Zone            *time.Location // the organisation's
	Now             func() time.Time

	Organisation string // as pages call whoever decides
	ConsoleURL   string // where people reach the console, for links; "" where that is not known

	Names    []string // of the service, as people reach it; none for those of its own machine
	Sessions *scs.SessionManager
	Alive    func(context.Context) error // reports whether the database answers
	Silent   func() <-chan struct{}      // closed while it does not; nil for never
	Console  fs.FS
	Log      *slog.Logger
	Version  string
}

// server holds the parts for the handlers.
type server struct {
	Parts
	looks *looks
}

func newServer(parts Parts) *server { return &server{Parts: parts, looks: &looks{}} }

// Handler returns the whole HTTP surface. It is safe for concurrent use.
func Handler(parts Parts) http.Handler {
	engine := engine(parts)
	// Cookies come with every request that a browser makes, also one that another site has it make. Such requests are
	// refused by their origin (Sec-Fetch-Site, else Origin); programs send neither, and no cookie.
	return unkept(named(parts.Names, whole(http.NewCrossOriginProtection().Handler(answering(parts.Silent, newServer(parts).withSession(engine))))))
}

// OpenAPI returns the contract as YAML, made from the Go types of this package.
func OpenAPI() ([]byte, error) {
	return register(gin.New(), Parts{}).OpenAPI().YAML()
}

func init() {
	gin.SetMode(gin.ReleaseMode)
	huma.DefaultArrayNullable = false
	quietProblems()
}

func engine(parts Parts) *gin.Engine {
	engine := gin.New()
	engine.ContextWithFallback = true
	engine.Use(logged(parts.Log), gin.CustomRecoveryWithWriter(nil, func(c *gin.Context, cause any) {
		parts.Log.ErrorContext(c, "a request failed badly", "path", c.FullPath(), "cause", cause)
		writeProblem(c.Writer, http.StatusInternalServerError, "Something went wrong in the service; its log says what.")
		c.Abort()
	}))
	register(engine, parts)
	engine.Any(scim.Path+"/*any", gin.WrapH(scim.Handler(scim.Config{Store: parts.Directories, Changed: parts.DirectorySyncer.Soon, Base: strings.TrimSuffix(parts.ConsoleURL, "/") + scim.Path, Log: parts.Log})))
	engine.NoRoute(serveConsole(parts.Console))
	return engine
}

func logged(log *slog.Logger) gin.HandlerFunc {
	return func(c *gin.Context) {
		begin := time.Now()
		c.Next()
		if route := c.FullPath(); route != "" && route != "/api/v1/health" {
			log.DebugContext(c, "request", "method", c.Request.Method, "route", route, "status", c.Writer.Status(),
				"ms", float64(time.Since(begin).Microseconds())/1000)
		}
	}
}

func register(engine *gin.Engine, parts Parts) huma.API {
	config := huma.DefaultConfig("Wide Lark", "1")
	config.Info.Description = "Lists, policies and trials of Wide Lark. The console and the command line use this and nothing else."
	config.CreateHooks = nil
	config.DocsPath = ""
	config.SchemasPath = ""
	config.OpenAPIPath = "/api/openapi"
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"session": {Type: "apiKey", In: "cookie", Name: SessionCookie, Description: "Set by signing in; for people."},
		"token":   {Type: "http", Scheme: "bearer", Description: "Made under /api/v1/tokens; for programs."},
		"gate":    {Type: "http", Scheme: "bearer", BearerFormat: "JWT", Description: "Signed by a gate elsewhere with its own key (RFC 7519)."},
	}
	config.Security = []map[string][]string{{"session": {}}, {"token": {}}}
	api := humagin.New(engine, config)
	s := newServer(parts)
	api.UseMiddleware(impatient(patience), s.admitted(api))
	s.registerSessions(api)
	s.registerAccounts(api)
	s.registerFactors(api)
	s.registerSignOn(api)
	s.registerLists(api)
	s.registerEntries(api)
	s.registerBulk(api)
	s.registerHistory(api)
	s.registerUpkeep(api)
	s.registerSources(api)
	s.registerPeople(api)
	s.registerPolicies(api)
	s.registerPages(api)
	s.registerZones(api)
	s.registerTrials(api)
	s.registerGrants(api)
	s.registerCategories(api)
	s.registerLookups(api)
	s.registerDirectories(api)
	s.registerPacks(api)
	s.registerSchedules(api)
	s.registerPublishing(api)
	s.registerReview(api)
	s.registerCoverage(api)
	s.registerReplay(api)
	s.registerGates(api)
	s.registerJournal(api)
	s.registerUsage(api)
	s.registerSearches(api)
	s.registerReports(api)
	s.registerAlerts(api)
	s.registerForwards(api)
	s.registerErasures(api)
	s.registerElsewhere(api)
	s.registerPresences(api)
	s.registerRequests(api)
	s.registerStints(api)
	s.registerCodes(api)
	s.registerConfig(api)
	s.registerExpectations(api)
	return api
}

// operation describes an endpoint in one line. Every one may answer with a problem.
func operation(id, method, path, tag, summary string, failures ...int) huma.Operation {
	op := huma.Operation{
		OperationID: id, Method: method, Path: "/api/v1" + path, Tags: []string{tag}, Summary: summary,
		Errors: append(failures, http.StatusUnauthorized),
	}
	if slices.Contains(anybody, id) {
		op.Security, op.Errors = []map[string][]string{}, failures
	} else {
		op.Extensions = map[string]any{"x-act": actOf[id]}
		if actOf[id] == access.Obey {
			op.Security = []map[string][]string{{"gate": {}}}
		}
	}
	return op
}
