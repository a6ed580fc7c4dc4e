package policy

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

// pageFlags are the flags that say what a policy says on pages.
type pageFlags struct{ title, text, contact, redirect, logo, language string }

func (f *pageFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.title, "page-title", "", "the title of the pages that people see in place of what is refused")
	cmd.Flags().StringVar(&f.text, "page-text", "", "what these pages say to whoever reads them")
	cmd.Flags().StringVar(&f.contact, "page-contact", "", "whom these pages tell people to ask")
	cmd.Flags().StringVar(&f.language, "page-language", "", "title, text and contact are for people whose browsers ask for this language, as de; with none of them, nothing more is said in it")
	cmd.Flags().StringVar(&f.logo, "page-logo", "", `the file of a picture on these pages, of 6 kB at most; "" for none`)
	cmd.Flags().StringVar(&f.redirect, "page-redirect", "", "where blocked pages lead in place of the block page")
}

// edit changes what a page says as the flags say.
func (f *pageFlags) edit(page *client.PageBody, changed func(flag string) bool) (*client.PageBody, error) {
	said := map[string]string{"page-title": f.title, "page-text": f.text, "page-contact": f.contact}
	any := changed("page-language") || changed("page-logo") || changed("page-redirect")
	for flag := range said {
		any = any || changed(flag)
	}
	if !any {
		return page, nil
	}
	next := client.PageBody{}
	if page != nil {
		next = *page
	}
	fields := map[string]**string{"page-title": &next.Title, "page-text": &next.Text, "page-contact": &next.Contact}
	keep := func() {}
	if changed("page-language") {
		languages := slices.Clone(command.Deref(next.Languages))
		at := slices.IndexFunc(languages, func(w client.PageWordsBody) bool { return strings.EqualFold(w.Language, f.language) })
		if at < 0 {
			languages, at = append(languages, client.PageWordsBody{Language: f.language}), len(languages)
		}
		w := &languages[at]
		fields = map[string]**string{"page-title": &w.Title, "page-text": &w.Text, "page-contact": &w.Contact}
		keep = func() {
			if !changed("page-title") && !changed("page-text") && !changed("page-contact") || command.OrEmpty(w.Title)+command.OrEmpty(w.Text)+command.OrEmpty(w.Contact) == "" {
				languages = slices.Delete(languages, at, at+1)
			}
			next.Languages = &languages
		}
	}
	for flag, field := range fields {
		if changed(flag) {
			*field = command.Optional[string](said[flag])
		}
	}
	keep()
	if changed("page-redirect") {
		next.Redirect = command.Optional[string](f.redirect)
	}
	if changed("page-logo") {
		logo, err := readPicture(f.logo)
		if err != nil {
			return nil, err
		}
		next.Logo = command.Optional[string](logo)
	}
	return &next, nil
}

// readPicture returns a picture of a file as a data URL (RFC 2397); "" for no file.
func readPicture(file string) (string, error) {
	if file == "" {
		return "", nil
	}
	picture, err := os.ReadFile(file)
	if err != nil {
		return "", err
	}
	media, _, _ := strings.Cut(http.DetectContentType(picture), ";")
	if strings.HasSuffix(strings.ToLower(file), ".svg") {
		media = "image/svg+xml"
	}
	if !strings.HasPrefix(media, "image/") {
		return "", fmt.Errorf("%s is not a picture: PNG, JPEG, GIF, WebP and SVG are taken", file)
	}
	return "data:" + media + ";base64," + base64.StdEncoding.EncodeToString(picture), nil
}

func pageCommand(a *command.App) *cobra.Command {
	var language string
	var held bool
	cmd := a.Reads(&cobra.Command{
		Use: "page NAME", Short: "The page that people see in place of what a policy refuses, as HTML", Args: command.Exactly("NAME"),
		Long: `The page that people see in place of what a policy refuses, as HTML, about a made-up request. What it says is said by
` + "`widelark policy edit`" + ` with --page-title, --page-text, --page-contact, --page-language, --page-logo and --page-redirect.`,
		Example: `  widelark policy page "Ward floor" --language de > page.html`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			shown, err := preview(cmd.Context(), api, args[0], language, held)
			if err != nil {
				return err
			}
			if a.Format == "table" || a.Format == "" {
				_, err = fmt.Fprint(a.Out, shown.HTML)
				return err
			}
			return a.Show(command.View{Data: shown, Columns: []string{"Language", "Bytes"}, Rows: [][]string{{shown.Language, fmt.Sprint(shown.Bytes)}}})
		}),
	})
	cmd.Flags().StringVar(&language, "language", "", "for a browser that asks for these languages, as de or de-CH,fr;q=0.8")
	cmd.Flags().BoolVar(&held, "held", false, "the page of what is held; else of what is blocked")
	return cmd
}

func preview(ctx context.Context, api *client.ClientWithResponses, name, language string, held bool) (shown client.PagePreview, err error) {
	p, err := object.Policies.Get(ctx, api, name)
	if err != nil {
		return shown, err
	}
	body := client.PreviewPageJSONRequestBody{Language: command.Optional[string](language), Held: &held}
	if p.Page != nil {
		body.Page = *p.Page
	}
	found, err := api.PreviewPageWithResponse(ctx, body)
	if err != nil {
		return shown, err
	}
	return *found.JSON200, nil
}
