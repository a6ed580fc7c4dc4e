package change

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

func ExportCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "export DIR", Short: "The whole configuration as files, for version control", Args: command.Exactly("DIR"),
		Long: "Write the draft as files: YAML, one file for each kind of object, lists as text in the notation, and a schema.json for editors. " +
			"Exporting again gives the same bytes. Files of an earlier export whose list is gone are taken away.",
		Example: "  widelark export policy-repo && cd policy-repo && git diff",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			answer, err := api.ExportConfigWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			dir := args[0]
			for path, content := range answer.JSON200.Files {
				if !filepath.IsLocal(filepath.FromSlash(path)) {
					return fmt.Errorf("the service names a file outside the folder: %q", path)
				}
				to := filepath.Join(dir, filepath.FromSlash(path))
				if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
					return err
				}
				if err := os.WriteFile(to, []byte(content), 0o644); err != nil {
					return err
				}
			}
			old, err := filepath.Glob(filepath.Join(dir, "lists", "*.txt"))
			if err != nil {
				return err
			}
			for _, path := range old {
				if _, kept := answer.JSON200.Files["lists/"+filepath.Base(path)]; !kept {
					if err := os.Remove(path); err != nil {
						return err
					}
				}
			}
			fmt.Fprintf(a.Out, "Wrote %s to %s: version %d of the draft.\n", command.Plural(int64(len(answer.JSON200.Files)), "file", "files"), dir, answer.JSON200.Version)
			return nil
		}),
	}
}

// folder reads the files of an export.
func folder(dir string) (map[string]string, error) {
	files := map[string]string{}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fmt.Errorf("the folder cannot be read: %w", err)
	}
	defer root.Close()
	err = fs.WalkDir(root.FS(), ".", func(path string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && strings.HasPrefix(entry.Name(), ".") && path != ".":
			return fs.SkipDir
		case entry.IsDir() || !slices.Contains([]string{".yaml", ".txt"}, filepath.Ext(path)):
			return nil
		}
		content, err := fs.ReadFile(root.FS(), path)
		files[filepath.ToSlash(path)] = string(content)
		return err
	})
	return files, err
}

func PlanFilesCommand(a *command.App) *cobra.Command {
	cmd := &cobra.Command{
		Use: "plan DIR", Short: "What applying files would do to the draft; exit with 1 where it would do anything", Args: command.Exactly("DIR"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			files, err := folder(args[0])
			if err != nil {
				return err
			}
			answer, err := api.PlanConfigWithResponse(cmd.Context(), client.ConfigInputBody{Files: files})
			if err != nil {
				return err
			}
			changes := answer.JSON200.Changes
			if a.Format == "table" {
				showDiff(a, changes, "the draft", "the files")
			} else if err := a.Show(differenceRows(answer.JSON200, changes)); err != nil {
				return err
			}
			if len(changes) > 0 {
				return command.ErrNo
			}
			return nil
		}),
	}
	return a.Reads(cmd)
}

func ApplyCommand(a *command.App) *cobra.Command {
	var publish, force string
	cmd := &cobra.Command{
		Use: "apply DIR", Short: "Make the draft what files say", Args: command.Exactly("DIR"),
		Long:    "Make the draft what files say: all of it, or nothing. Objects that are not in the files go. With --publish, the draft is put live then.",
		Example: `  widelark plan policy-repo; widelark apply policy-repo --publish "merge of the supplier portals"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			files, err := folder(args[0])
			if err != nil {
				return err
			}
			return apply(cmd.Context(), a, api, files, publish, force)
		}),
	}
	cmd.Flags().StringVar(&publish, "publish", "", "put the draft live afterwards, with this note")
	cmd.Flags().StringVar(&force, "force", "", "with --publish: why it goes live though expectations fail")
	return cmd
}

func apply(ctx context.Context, a *command.App, api *client.ClientWithResponses, files map[string]string, publish, force string) error {
	answer, err := api.ApplyConfigWithResponse(ctx, client.ApplyInputBody{Files: files})
	if err != nil {
		return err
	}
	changes := answer.JSON200.Changes
	if len(changes) == 0 {
		fmt.Fprintln(a.Out, "The draft is what the files say already.")
	} else {
		fmt.Fprintf(a.Out, "Applied %s to the draft.\n", command.Plural(int64(len(changes)), "difference", "differences"))
	}
	if publish == "" {
		return nil
	}
	published, err := api.PublishWithResponse(ctx, client.PublishInputBody{Note: publish, Force: command.Optional[string](force)})
	var problem *client.Problem
	if errors.As(err, &problem) && problem.Type == client.NothingToPublish {
		fmt.Fprintln(a.Out, "It is live already.")
		return nil
	}
	if err != nil {
		return refused(ctx, a, api, err)
	}
	fmt.Fprintf(a.Out, "Revision %d is live.\n", published.JSON201.Revision.Number)
	return nil
}

func BackupCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "backup FILE", Short: "The whole configuration in one file", Args: command.Exactly("FILE"),
		Example: "  widelark backup quillmere.zip\n  widelark --server http://127.0.0.1:8480 restore quillmere.zip",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			answer, err := api.ExportConfigWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			file, err := os.OpenFile(args[0], os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600) // the file shows who may reach what
			if err == nil {
				err = file.Chmod(0o600) // also of a file that existed
			}
			if err != nil {
				return err
			}
			out := zip.NewWriter(file)
			paths := []string{}
			for path := range answer.JSON200.Files {
				paths = append(paths, path)
			}
			slices.Sort(paths)
			for _, path := range paths {
				w, err := out.Create(path)
				if err == nil {
					_, err = io.WriteString(w, answer.JSON200.Files[path])
				}
				if err != nil {
					return errors.Join(err, file.Close())
				}
			}
			if err := errors.Join(out.Close(), file.Close()); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Wrote %s into %s: version %d of the draft.\n", command.Plural(int64(len(paths)), "file", "files"), args[0], answer.JSON200.Version)
			return nil
		}),
	}
}

// maxBackup is the largest size of a decompressed backup, in bytes: the service's limit for one request.
const maxBackup = 256 << 20

func RestoreCommand(a *command.App) *cobra.Command {
	var publish string
	cmd := &cobra.Command{
		Use: "restore FILE", Short: "Make the draft what a backup has", Args: command.Exactly("FILE"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			in, err := zip.OpenReader(args[0])
			if err != nil {
				return fmt.Errorf("%s cannot be read as a backup: %w", args[0], err)
			}
			defer in.Close()
			files := map[string]string{}
			left := int64(maxBackup)
			for _, one := range in.File {
				r, err := one.Open()
				if err != nil {
					return err
				}
				content, err := io.ReadAll(io.LimitReader(r, left+1))
				if err := errors.Join(err, r.Close()); err != nil {
					return err
				}
				if left -= int64(len(content)) + 100; left < 0 {
					return fmt.Errorf("%s comes to more than %d MB unpacked, which no backup of a service does", args[0], maxBackup>>20)
				}
				files[one.Name] = string(content)
			}
			return apply(cmd.Context(), a, api, files, publish, "")
		}),
	}
	cmd.Flags().StringVar(&publish, "publish", "", "put the draft live afterwards, with this note")
	return cmd
}
