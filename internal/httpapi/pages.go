package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"widelark/internal/gate/blockpage"
	"widelark/internal/revision"
)

type previewPageInput struct {
	Body struct {
		Page     revision.PageBody `json:"page"`
		Language string            `json:"language,omitempty" maxLength:"200" doc:"That a browser asks for, as de or de-CH,fr;q=0.8 (Accept-Language)"`
		Held     bool              `json:"held,omitempty" doc:"The page of what is held; else of what is blocked"`
	}
}

// PagePreview is a page as people see it.
type PagePreview struct {
	HTML     string `json:"html" doc:"The whole page, with everything in it"`
	Language string `json:"language" doc:"In which the page speaks"`
	Bytes    int    `json:"bytes" doc:"Its size"`
}

type previewPageOutput struct{ Body PagePreview }

func (s *server) registerPages(api huma.API) {
	huma.Register(api, operation("previewPage", http.MethodPost, "/policies/page", "Policies", "The page that people see in place of what is refused, about a made-up request, before it is kept", 422),
		func(ctx context.Context, in *previewPageInput) (*previewPageOutput, error) {
			page, err := in.Body.Page.Checked()
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			words, tag := blockpage.Said(page, in.Body.Language)
			shown := blockpage.Page{
				Words: blockpage.In(in.Body.Language), Held: in.Body.Held, Title: words.Title, Text: words.Text, Contact: words.Contact, SaidIn: tag, Logo: page.Logo,
				URL: "https://games.example/puzzles/42", Is: "Games", By: "Policy \"Ward floor\": No games on duty", Who: "Kay Moran", Reference: "7F3K-20QD", AskAt: "#", Organisation: s.Organisation,
				Because: `The rule "No games on duty" of the policy "Ward floor" says block, because it is Games.`,
			}
			if shown.Held {
				shown.Because = `The rule "No games on duty" of the policy "Ward floor" says hold, because it is Games.`
			}
			html := shown.HTML()
			return &previewPageOutput{PagePreview{string(html), shown.Lang(), len(html)}}, nil
		})
}
