package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"

	"github.com/spf13/cobra"

	"widelark/core/policy"
	"widelark/internal/gate/authority"
	"widelark/internal/outpost"
)

func gateCommand(logs io.Writer) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "gate",
		Short: "Run a gate for a service elsewhere",
		Long: "Run a gate for a service on another machine. It enrols once, with a code that `widelark gate enrol` prints; from then on it has keys of its own. It keeps what it runs in its folder, " +
			"and starts from there while the service is away; records wait there until the service takes them.",
		Example: `  widelarkd gate --folder /var/lib/widelark/gate --service http://10.40.0.2:8470 --enrol ABCD-EFGH-…
  widelarkd gate --folder /var/lib/widelark/gate --proxy-listen 10.40.0.3:8471`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			config, err := LoadConfig(cmd.Flags())
			if err != nil {
				return err
			}
			return runElsewhere(cmd.Context(), config, cmd.OutOrStdout(), logs)
		},
	}
	elsewhereFlags(cmd.Flags())
	return cmd
}

// runElsewhere runs a gate for a service elsewhere until the context ends.
func runElsewhere(ctx context.Context, config Config, out, logs io.Writer) error {
	level, err := config.level()
	if err != nil {
		return err
	}
	now, err := config.clock()
	if err != nil {
		return err
	}
	folder, err := outpost.OpenFolder(config.Folder)
	if err != nil {
		return err
	}
	if config.Enrol != "" {
		who, err := outpost.Enrol(ctx, folder, config.Service, config.Enrol)
		if err != nil {
			return fmt.Errorf("the gate cannot enrol: %w", err)
		}
		fmt.Fprintf(out, "Enrolled at %s as %q. From now on, start this gate without --enrol.\n", who.Service, who.Name)
	}
	who, err := folder.Identity()
	if err != nil {
		return err
	}
	kind := who.Kind
	wanted, err := config.readGates([]policy.Gate{kind})
	if err != nil {
		return err
	}
	log := slog.New(slog.NewJSONHandler(logs, &slog.HandlerOptions{Level: level}))
	var g *running
	post, err := outpost.Open(outpost.Config{
		Folder: folder, Now: now, Lapse: config.Lapse, Spool: int64(config.SpoolMB) * 1_000_000, Log: log,
		Sign: func(a *authority.Authority, trust [][]byte) { g.sign(a, trust) },
	})
	if err != nil {
		return errors.Join(err, wanted[kind].close())
	}
	failed := make(chan error, 1)
	g = wanted[kind].start(config, parts{
		name: post.Name, desk: post, records: post.Records(), now: post.Now, log: log, failed: failed, open: config.OpenWithoutRules,
		begin: func(begun *running) { g = begun; post.Start(ctx, g.gate) },
	})
	g.said(out)
	following, stop := context.WithCancel(context.WithoutCancel(ctx))
	done := make(chan struct{})
	go func() {
		defer close(done)
		post.Run(following)
	}()
	select {
	case <-ctx.Done():
		err = nil
	case err = <-failed:
	}
	err = errors.Join(err, g.close()) // what it still has to record waits on the disk
	stop()
	<-done
	return err
}
