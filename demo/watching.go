package demo

import (
	"context"
	"fmt"

	"widelark/client"
)

// loadWatching keeps searches and reports, and sets up alerts, unless there are some. Without mails, they go to nobody.
func loadWatching(ctx context.Context, api *client.ClientWithResponses, mails bool) error {
	known, err := api.GetSearchesWithResponse(ctx)
	if err != nil || len(known.JSON200.Items) > 0 {
		return err
	}
	yes := true
	for _, s := range []client.SavedSearchInput{
		{Name: "Blocked on the wards today", Query: `group:"Ward nurses" verdict:block since:today`, Shared: &yes},
		{Name: "Nobody has looked at it", Query: "trait:unrated -verdict:block since:1d", Shared: &yes, Columns: &[]client.SavedSearchInputColumns{"time", "host", "who", "groups", "agent", "size"}},
		{Name: "Large downloads at night", Query: `size:>1MB in:"Night shift" since:7d`, Columns: &[]client.SavedSearchInputColumns{"time", "who", "request", "size", "duration"}},
	} {
		if _, err := api.AddSearchWithResponse(ctx, s); err != nil {
			return fmt.Errorf("the search %q: %w", s.Name, err)
		}
	}
	ward, top := `group:"Ward nurses"`, int64(8)
	monday, daily := client.Timetable{Every: "week", At: "07:00"}, client.Timetable{Every: "day", At: "06:30"}
	for _, r := range []client.ReportInput{
		{Name: "The hospital's week", Span: "7d", Compare: &yes, Timetable: &monday, To: &[]string{"board@quillmere.example"}, Files: &[]client.ReportInputFiles{"pdf", "csv"}},
		{Name: "Ward nurses yesterday", Span: "day", Query: &ward, Top: &top, Sections: &[]client.ReportInputSections{"over", "blocked", "categories", "people", "unrated"}, Timetable: &daily, To: &[]string{"ward.office@quillmere.example"}},
		{Name: "What is new", Span: "7d", Sections: &[]client.ReportInputSections{"new", "unrated", "words"}},
	} {
		if !mails {
			r.Timetable, r.To = nil, nil
		}
		if _, err := api.AddReportWithResponse(ctx, r); err != nil {
			return fmt.Errorf("the report %q: %w", r.Name, err)
		}
	}
	dangers, keeps := "family:dangers verdict:block", "verdict:block"
	desk := &[]string{"desk@quillmere.example"}
	number := func(n int64) *int64 { return &n }
	person := client.AlertInputPer("person")
	for _, a := range []client.AlertInput{
		{Name: "Dangers blocked", What: "requests", Query: &dangers, More: number(20), Minutes: number(60), To: desk},
		{Name: "Somebody keeps trying", What: "requests", Query: &keeps, More: number(40), Minutes: number(30), Per: &person, To: desk, Quiet: &client.Quiet{From: "22:00", Until: "06:00"}},
		{Name: "Gates", What: "gates", To: desk},
		{Name: "Packs", What: "packs", Days: number(2), To: desk},
		{Name: "Expectations", What: "expectations", To: desk},
	} {
		if !mails {
			a.To = nil
		}
		if _, err := api.AddAlertWithResponse(ctx, a); err != nil {
			return fmt.Errorf("the alert %q: %w", a.Name, err)
		}
	}
	return nil
}
