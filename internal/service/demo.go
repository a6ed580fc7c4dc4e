package service

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"net"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/miekg/dns"
	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/demo"
	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/postgres/cluster"
	"widelark/internal/signon"
)

func demoCommand(version string) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Run everything with the demo data of Quillmere General: database, service, console",
		Long:  "Run everything with the demo data of Quillmere General, an invented hospital: a PostgreSQL of its own, the service, the console. It all ends with Ctrl-C; the data stay for the next time.",
		Args:  noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if !cmd.Flags().Changed("time-zone") {
				if err := cmd.Flags().Set("time-zone", demo.TimeZone); err != nil {
					return err
				}
			}
			config, err := LoadConfig(cmd.Flags())
			if err != nil {
				return err
			}
			if !cmd.Flags().Changed("dns-https-listen") {
				config.DNSHTTPSListen = "127.0.0.1:8473"
			}
			if !cmd.Flags().Changed("dns-zone") {
				config.DNSZones, config.DNSZoneTo = []string{"rpz.quillmere.internal=Ward nurses"}, []string{"127.0.0.0/8"}
			}
			dir, _ := cmd.Flags().GetString("data")
			return runDemo(cmd.Context(), config, dir, cmd.OutOrStdout(), version)
		},
	}
	flags(cmd.Flags())
	cmd.Flags().String("data", "", "the data folder (default .var/demo here or, where the database's user cannot enter that, a folder in /var/lib/widelark)")
	return cmd
}

// runDemo starts the parts in order and stops them in the reverse order when ctx ends.
func runDemo(ctx context.Context, config Config, dir string, out io.Writer, version string) (err error) {
	config.SourceRanges = append(config.SourceRanges, "127.0.0.0/8") // the partner's stand-in
	listener, err := Listen(config.Listen)
	if err != nil {
		return err
	}
	defer listener.Close()
	if dir == "" {
		if dir, err = demoDir(); err != nil {
			return err
		}
	}
	begin := time.Now()
	db, err := cluster.Start(ctx, cluster.Config{Dir: filepath.Join(dir, "database")})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Stop()) }()
	if err := db.EnsureDatabase(ctx, "widelark"); err != nil {
		return fmt.Errorf("the demo's database cannot be made: %w", err)
	}
	config.DatabaseURL = db.URL("widelark")
	logs, err := os.OpenFile(filepath.Join(dir, "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("the data folder is not writable: %w", err)
	}
	defer logs.Close()
	web, roots, err := demo.WithTLS(demo.Partner())
	if err != nil {
		return err
	}
	partner, stop, err := standIn(web)
	if err != nil {
		return err
	}
	defer stop()
	resolver, end, err := standInResolver(demo.Resolver())
	if err != nil {
		return err
	}
	defer end()
	config.DNSForward = []string{resolver}
	config.ProxyRoots, config.SecretFile = filepath.Join(dir, "sites.pem"), filepath.Join(dir, "secret")
	if err := os.WriteFile(config.ProxyRoots, roots, 0o644); err != nil {
		return err
	}
	config.Gates, config.ProxyUpstream, config.Organisation, config.demoPassword = []string{"proxy", "dns", "icap"}, partner, demo.Organisation, demo.Password
	config.PageName = demo.PageName
	mails, stopMails, err := standInMail(filepath.Join(dir, "mail"))
	if err != nil {
		return err
	}
	defer stopMails()
	config.MailServer, config.MailFrom, config.ConsoleURL = "smtp://"+mails, demo.MailFrom, "http://"+config.Listen
	provider, stopProvider, err := standIn(demo.NewProvider(demo.Staff, config.ConsoleURL+signon.Path))
	if err != nil {
		return err
	}
	defer stopProvider()
	directory, err := demo.StartDirectory()
	if err != nil {
		return err
	}
	defer directory.Stop()
	config.ProviderSecretFile = filepath.Join(dir, "provider-secret")
	if err := os.WriteFile(config.ProviderSecretFile, []byte(demo.ProviderSecret), 0o600); err != nil {
		return err
	}
	config.ProviderURL, config.ProviderName, config.ProviderClient = provider, demo.ProviderName, demo.ProviderClient
	s, err := Start(ctx, config, listener, logs, version)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	if err := furnish(ctx, s, dir, partner, directory, out); err != nil {
		if ctx.Err() != nil {
			fmt.Fprintln(out, "\nStopping the service and the database; the next start loads the rest of the demo data…")
			return nil
		}
		return fmt.Errorf("the demo data could not be loaded: %w", err)
	}
	welcome(out, s, dir, time.Since(begin))
	select {
	case <-ctx.Done():
		fmt.Fprintln(out, "\nStopping the service and the database…")
		return nil
	case err := <-s.Failed():
		return fmt.Errorf("the service ended: %w", err)
	case <-db.Done():
		return fmt.Errorf("the database server ended by itself; see %s", filepath.Join(dir, "database", "postgres.log"))
	}
}

// standIn serves a handler on a free loopback port, and returns its address.
func standIn(handler http.Handler) (url string, stop func(), err error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, fmt.Errorf("the partner's stand-in cannot listen: %w", err)
	}
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = server.Serve(listener) }() // it ends with stop
	return "http://" + listener.Addr().String(), func() { _ = server.Close() }, nil
}

// standInMail serves a sink for mail on a free loopback port, and returns its address.
func standInMail(dir string) (at string, stop func(), err error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, fmt.Errorf("the stand-in of the mail server cannot listen: %w", err)
	}
	server := demo.MailSink(dir)
	go func() { _ = server.Serve(listener) }() // it ends with stop
	return listener.Addr().String(), func() { _ = server.Close() }, nil
}

// standInResolver serves a handler on a free loopback port over UDP and TCP, and returns its address.
func standInResolver(handler dns.Handler) (at string, stop func(), err error) {
	tcp, udp, err := listenDNS("127.0.0.1:0")
	if err != nil {
		return "", nil, fmt.Errorf("the stand-in of the resolvers cannot listen: %w", err)
	}
	over, beside := &dns.Server{PacketConn: udp, Handler: handler}, &dns.Server{Listener: tcp, Handler: handler}
	for _, server := range []*dns.Server{over, beside} {
		go func() { _ = server.ActivateAndServe() }() // it ends with stop
	}
	return udp.LocalAddr().String(), func() { _, _ = udp.Close(), tcp.Close() }, nil
}

// demoDir returns a folder of the project's own. PostgreSQL does not run as root; where its user cannot enter the
// checkout (below root's home, say), the folder lies in /var/lib, one for each checkout.
func demoDir() (string, error) {
	dir, err := filepath.Abs(filepath.Join(".var", "demo"))
	if err != nil || os.Geteuid() != 0 {
		return dir, err
	}
	account, err := user.Lookup("postgres")
	if err != nil {
		return dir, nil // the cluster says what is missing
	}
	uid, _ := strconv.ParseUint(account.Uid, 10, 32)
	gid, _ := strconv.ParseUint(account.Gid, 10, 32)
	if cluster.ClosedParent(filepath.Join(dir, "database"), uint32(uid), uint32(gid)) == "" {
		return dir, nil
	}
	name := fnv.New32a()
	_, _ = io.WriteString(name, dir)
	return fmt.Sprintf("/var/lib/widelark/demo-%08x", name.Sum32()), nil
}

// furnish adds the demo's accounts, loads the demo data through the API unless they are loaded, and leaves a
// sign-in for the command line.
func furnish(ctx context.Context, s *Service, dir, partner string, directory *demo.DirectoryServer, out io.Writer) error {
	files := filepath.Join(dir, "files")
	if !demo.Loaded(files) {
		a := account.Account{Name: demo.Name, FullName: demo.FullName, Roles: []access.Held{{Role: access.Owner}}}
		if _, err := s.Authenticator.Add(ctx, a, demo.Password, access.Setup); err != nil && !errors.Is(err, account.ErrTaken) {
			return err
		}
	}
	who, err := someOwner(ctx, s.store)
	if err != nil {
		return err
	}
	token, secret, err := s.Authenticator.AddToken(ctx, account.Token{Name: "widelark, demo"}, who.Actor())
	if err != nil {
		return err
	}
	settings := fmt.Sprintf("server: %s\ntoken: %s\nid: %s\nname: %s\n", s.URL, secret, token.ID, who.Name)
	if err := os.WriteFile(filepath.Join(dir, "client.yaml"), []byte(settings), 0o600); err != nil {
		return err
	}
	api, err := client.New(s.URL, secret)
	if err != nil {
		return err
	}
	if err := demoAuthority(ctx, api, filepath.Join(dir, "authority.pem")); err != nil {
		return err
	}
	loaded := demo.Loaded(files)
	if err := demo.Load(ctx, api, demo.Loading{Dir: files, Partner: partner, Directory: directory, Mails: true, Out: out}); err != nil || loaded {
		return err
	}
	// The review speaks of what has been in the draft for longer than the demo has been running.
	if _, err := s.store.Pool().Exec(ctx, `update edits set at = at - interval '100 days'`); err != nil {
		return err
	}
	if err := demo.Unlock(ctx, api, s.gates[0].address); err != nil {
		return err
	}
	return demo.Ask(ctx, api, s.gates[0].address)
}

// demoAuthority makes an authority for the demo's gate unless there is one, and stores its certificate where curl finds it.
func demoAuthority(ctx context.Context, api *client.ClientWithResponses, path string) error {
	found, err := api.GetAuthoritiesWithResponse(ctx)
	if err != nil {
		return err
	}
	if len(found.JSON200.Authorities) == 0 {
		if _, err := api.MakeAuthorityWithResponse(ctx, client.MakeAuthorityInputBody{Organisation: demo.Organisation}); err != nil {
			return err
		}
		if found, err = api.GetAuthoritiesWithResponse(ctx); err != nil {
			return err
		}
	}
	var pem strings.Builder
	for _, a := range found.JSON200.Authorities {
		pem.WriteString(a.Certificate)
	}
	return os.WriteFile(path, []byte(pem.String()), 0o644)
}

// someOwner returns the demo's owner or, if that account is gone or no longer an owner, another.
func someOwner(ctx context.Context, store account.Store) (account.Account, error) {
	all, err := store.Accounts(ctx)
	var found account.Account
	for _, a := range all {
		if a.IsOwner() && (found.Name == "" || a.Name == demo.Name) {
			found = a
		}
	}
	if err == nil && found.Name == "" {
		err = errors.New("the demo has no owner any more: make somebody one with `widelarkd account owner`, or remove its data folder")
	}
	return found, err
}

// welcome prints where to look and what to try. Paths are relative if that is shorter.
func welcome(out io.Writer, s *Service, dir string, took time.Duration) {
	if here, err := os.Getwd(); err == nil {
		if short, err := filepath.Rel(here, dir); err == nil && filepath.IsLocal(short) {
			dir = short
		}
	}
	gate, names := s.gates[0].address, s.gates[1].address
	host, port, _ := net.SplitHostPort(names) // it is one of ours
	fmt.Fprintf(out, `
Wide Lark runs with the demo data of Quillmere General (ready in %.1f s).

  Console   %s
            sign in as %s with the password %s;
            as ivo (editor), mara (publisher), desk (help desk), sedge (lead), pharmacy (editor of
            one list) or auditor, with the same password, there is less to see and to do

  Terminal  export WIDELARK_CONFIG=%s
            bin/widelark try oddsfield.example
            bin/widelark list ls
            bin/widelark lookup marrow-trust.test/breast/screening
            bin/widelark journal search 'verdict:block since:2h'
            bin/widelark list import "Blocked on request" %s --preview
            bin/widelark directory changes Staff     # six have joined, three have left, one has married

  Proxy     every site of the demo answers behind the gate, and says what it is; sign in as
            anybody of the hospital, with the same password:
            export gate="-x http://%s -U kay.moran:%s"
            curl $gate http://harbour-news.example/               # allowed
            curl $gate http://oddsfield.example/                  # the block page, in a line
            curl $gate --cacert %s https://oddsfield.example/today
                                                                  # opened, and the page blocked
            http://%s/ is one's own page there; /authority says how to trust the gate's authority

  DNS       at %s over UDP and TCP, for whoever has dig; over HTTPS, too
            dig -p %s @%s oddsfield.example          # nothing, and the reason

  Mail      of reports and alerts lies in %s

  ICAP      at icap://%s/requests and icap://%s/answers, for another proxy

Ctrl-C ends the service and its database; the data stay in %s.
`, took.Seconds(), s.URL, demo.Name, demo.Password, filepath.Join(dir, "client.yaml"), filepath.Join(dir, "files", demo.HandKept), gate, demo.Password, filepath.Join(dir, "authority.pem"), gate, names, port, host, filepath.Join(dir, "mail"), s.gates[2].address, s.gates[2].address, dir)
}
