package pack

import (
	"crypto/ed25519"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widelark/core/classify"
	"widelark/internal/cli/command"
	"widelark/packfile"
	"widelark/sealed"
)

// makersOwn reads the files of a pack's maker: the taxonomy, and the private key.
func makersOwn(taxonomy, keyFile string) (t classify.Taxonomy, key ed25519.PrivateKey, err error) {
	text, err := os.ReadFile(taxonomy)
	if err != nil {
		return t, nil, err
	}
	if t, err = packfile.UnmarshalTaxonomy(text); err != nil {
		return t, nil, err
	}
	secret, err := os.ReadFile(keyFile)
	if err != nil {
		return t, nil, err
	}
	if key, err = sealed.ReadKey(secret); err != nil {
		err = fmt.Errorf("%s: %w", keyFile, err)
	}
	return t, key, err
}

// readSites reads sites from CSV files.
func readSites(a *command.App, names []string, t classify.Taxonomy) (map[string]string, error) {
	sites := map[string]string{}
	for _, name := range names {
		file, err := a.Open(name)
		if err != nil {
			return nil, err
		}
		err = packfile.ReadSites(file, name, t, sites)
		_ = file.Close() // a file that was only read
		if err != nil {
			return nil, err
		}
	}
	return sites, nil
}

// basePack reads the whole pack on which a delta is based, and returns its sites and its version.
func basePack(name, pack string, key ed25519.PrivateKey) (map[string]string, int64, error) {
	old, sites, err := readPack(name, []string{sealed.KeyText(key.Public().(ed25519.PublicKey))})
	if err != nil {
		return nil, 0, err
	}
	if old.Base != 0 || old.Key != pack {
		return nil, 0, fmt.Errorf("it is not a whole pack %q", pack)
	}
	return sites, old.Version, nil
}

// wholeFile writes a file completely, or removes it.
func wholeFile(name string, force bool, write func(io.Writer) error) error {
	out, err := command.NewFile(name, 0o644, force)
	if err != nil {
		return err
	}
	if err := errors.Join(write(out), out.Close()); err != nil {
		_ = os.Remove(name) // an incomplete pack is of no use
		return err
	}
	return nil
}

func buildCommand(a *command.App) *cobra.Command {
	var c packfile.Content
	var taxonomy, keyFile, date, base string
	var force bool
	cmd := &cobra.Command{
		Use: "build OUT SITES.csv...", Short: "Make a pack from CSV files; no service is asked", Args: command.AtLeast("OUT", "SITES.csv"),
		Long: "Make a pack from CSV files with the columns entry and categories (keys of the taxonomy, with blanks between them), signed with your key. " +
			"With --base, an earlier pack of yours, only what changed since is written.",
		Example: `  widelark pack key makers.pem
  widelark pack build harbour-7.larkpack sites.csv --taxonomy taxonomy.json --key makers.pem \
      --pack harbour --name "Harbour catalogue" --number 7 --licence CC0-1.0
  widelark pack verify harbour-7.larkpack`,
		RunE: func(_ *cobra.Command, args []string) error {
			t, key, err := makersOwn(taxonomy, keyFile)
			if err != nil {
				return err
			}
			c.Date = time.Now().Truncate(time.Second)
			if date != "" {
				if c.Date, err = time.Parse(time.RFC3339, date); err != nil {
					return command.Usagef("--date: %q is not a moment; write it as 2026-11-20T06:00:00Z", date)
				}
			}
			sites, err := readSites(a, args[1:], t)
			if err != nil {
				return err
			}
			var before map[string]string
			if base != "" {
				if before, c.Base, err = basePack(base, c.Key, key); err != nil {
					return fmt.Errorf("%s: %w", base, err)
				}
			}
			write := func(w io.Writer) error { return packfile.Write(w, c, t, sites, key) }
			if before != nil {
				write = func(w io.Writer) error { return packfile.WriteDelta(w, c, t, before, sites, key) }
			}
			if err := wholeFile(args[0], force, write); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Wrote %s: %s, version %d, %s.\n", args[0], c.Name, c.Version, command.Plural(int64(len(sites)), "site", "sites"))
			return nil
		},
	}
	cmd.Flags().StringVar(&taxonomy, "taxonomy", "", "a JSON file with families and categories")
	cmd.Flags().StringVar(&keyFile, "key", "", "the file of the private key to sign with; see `widelark pack key`")
	cmd.Flags().StringVar(&c.Key, "pack", "", "what the pack calls itself for good: letters a to z, digits and single hyphens")
	cmd.Flags().StringVar(&c.Name, "name", "", "its name for people")
	cmd.Flags().Int64Var(&c.Version, "number", 0, "the version, greater than that of the pack before")
	cmd.Flags().StringVar(&c.Licence, "licence", "", "on what terms others may use it, as CC0-1.0")
	cmd.Flags().StringVar(&date, "date", "", "its date (default now)")
	cmd.Flags().StringVar(&base, "base", "", "a whole pack of an earlier version: write only what changed since")
	cmd.Flags().BoolVar(&force, "force", false, "write over a file that is there")
	for _, name := range []string{"taxonomy", "key", "pack", "name", "number", "licence"} {
		_ = cmd.MarkFlagRequired(name) // it fails only if the flag does not exist
	}
	return cmd
}

// readPack reads a whole pack into memory. Without trusted keys, it trusts the key that signed the pack.
func readPack(name string, trusted []string) (*packfile.Reader, map[string]string, error) {
	if trusted == nil {
		signer, err := packfile.Signer(name)
		if err != nil {
			return nil, nil, err
		}
		trusted = []string{signer}
	}
	file, err := os.Open(name)
	if err != nil {
		return nil, nil, err
	}
	defer file.Close()
	p, err := packfile.Open(file, trusted)
	if err != nil {
		return nil, nil, err
	}
	defer p.Close()
	sites := map[string]string{}
	err = p.EachSite(func(s packfile.Site) error {
		sites[s.Entry] = s.Categories
		return nil
	})
	return p, sites, err
}

func verifyCommand(a *command.App) *cobra.Command {
	var trusted []string
	cmd := &cobra.Command{
		Use: "verify FILE", Short: "Check a pack to the last line, and say what is in it; no service is asked", Args: command.Exactly("FILE"),
		Long: "Check a pack: format, checksums, signature, every line. Without --key the signature is checked against the key that the pack itself names, " +
			"which shows that nothing was damaged, not whose it is.",
		RunE: func(_ *cobra.Command, args []string) error {
			p, sites, err := readPack(args[0], trusted)
			if err != nil {
				fmt.Fprintf(a.Out, "%s is not good: %s\n", args[0], err)
				return command.ErrNo
			}
			counts := map[string]int64{}
			for _, set := range sites {
				for _, key := range strings.Fields(set) {
					counts[key]++
				}
			}
			type summary struct {
				Content packfile.Content `json:"content"`
				Signer  string           `json:"signer"`
				Sites   map[string]int64 `json:"sites"`
			}
			v := command.View{Data: summary{p.Content, p.Signer, counts}, Columns: []string{"Category", "Sites"}, Numbers: []int{1}}
			for _, key := range slices.Sorted(maps.Keys(counts)) {
				v.Rows = append(v.Rows, []string{key, command.Grouped(counts[key])})
			}
			if a.Format == "table" {
				kind := "a whole pack"
				if p.Base > 0 {
					kind = fmt.Sprintf("what changed since version %d", p.Base)
				}
				fmt.Fprintf(a.Out, "%s (%s), version %d of %s: %s of %s, licence %s\nSigned by %s\n\n", p.Name, p.Key, p.Version, p.Date.Format("2006-01-02"), kind,
					command.Plural(p.Sites, "site", "sites"), p.Licence, p.Signer)
			}
			return a.Show(v)
		},
	}
	cmd.Flags().StringArrayVar(&trusted, "key", nil, "a public key that it must be signed with; may be repeated, then one of them")
	return a.Reads(cmd)
}

func keyCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "key FILE", Short: "Make a key to sign packs with, or print the public key of an existing one", Args: command.Exactly("FILE"),
		RunE: func(_ *cobra.Command, args []string) error {
			text, err := os.ReadFile(args[0])
			if errors.Is(err, os.ErrNotExist) {
				if text, err = sealed.NewKey(); err != nil {
					return err
				}
				file, err := command.NewFile(args[0], 0o600, false)
				if err != nil {
					return err
				}
				_, err = file.Write(text)
				if err = errors.Join(err, file.Close()); err != nil {
					return err
				}
				fmt.Fprintf(a.Err, "Made %s. Keep it to yourself; whoever has it can sign packs as you.\n", args[0])
			} else if err != nil {
				return err
			}
			key, err := sealed.ReadKey(text)
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			fmt.Fprintln(a.Out, sealed.KeyText(key.Public().(ed25519.PublicKey)))
			return nil
		},
	}
}
