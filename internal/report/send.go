package report

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/delivery"
	"widelark/internal/journal/query"
	"widelark/internal/watch"
)

// Sender sends reports when they are due. Several services may run one each: a report is sent by one.
type Sender struct {
	Items        watch.Store
	Maker        *Maker
	Organisation string
	Console      string // where the console is, for links; "" for none
	Log          *slog.Logger
}

// Run sends reports until the context ends.
func (s *Sender) Run(ctx context.Context) {
	tick := time.NewTicker(5 * time.Second)
	defer tick.Stop()
	for {
		if err := s.Items.Due(ctx, watch.Report, s.Maker.Now(), s.due, access.Timetable); err != nil && ctx.Err() == nil {
			s.Log.WarnContext(ctx, "a report could not be made; it is tried again", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func (s *Sender) due(ctx context.Context, item watch.Item) (time.Time, []delivery.Message, error) {
	var body watch.ReportBody
	if err := json.Unmarshal(item.Body, &body); err != nil {
		return time.Time{}, nil, err
	}
	messages, err := s.Messages(ctx, item, &body, item.NextAt.UTC().Format(time.RFC3339))
	if errors.Is(err, ErrBlind) {
		s.Log.WarnContext(ctx, "a report was not made", "report", item.Name, "error", err)
		messages, err = nil, nil
	}
	return body.Timetable.Next(s.Maker.Now(), s.Maker.Zone), messages, err
}

// AskedOf returns what a report that is kept is of.
func AskedOf(b *watch.ReportBody) Asked {
	return Asked{Query: b.Query, Span: Span(b.Span), Sections: b.Sections, Compare: b.Compare, Top: b.Top}
}

// FileName returns the name of a report's file, without its ending.
func (m *Made) FileName() string {
	name := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '-':
			return r
		case r == ' ':
			return '-'
		}
		return -1
	}, strings.ToLower(m.Title))
	return strings.Trim(name+"-"+m.From.Format("2006-01-02"), "-")
}

// ErrBlind is wrapped where nobody stands for a report or an alert who may see what it tells.
var ErrBlind = errors.New("who edited it last may not read the journal any more, or not see who asked: edit it")

// ViewOf returns what is seen of the journal by what is set up around it: no more than by whoever edited that last. The error may wrap [ErrBlind].
func ViewOf(ctx context.Context, items watch.Store, item watch.Item) (query.View, error) {
	held, err := items.HeldBy(ctx, item.UpdatedBy)
	view := query.ViewOf(held)
	if err == nil && !view.All && len(view.Only) == 0 {
		err = fmt.Errorf("%s: %w", item.UpdatedBy, ErrBlind)
	}
	return view, err
}

// Messages returns the mails that carry a report. The same key stands for the same report. The error may wrap [ErrBlind].
func (s *Sender) Messages(ctx context.Context, item watch.Item, body *watch.ReportBody, key string) ([]delivery.Message, error) {
	asked := AskedOf(body)
	var err error
	if asked.View, err = ViewOf(ctx, s.Items, item); err != nil {
		return nil, err
	}
	made, err := s.Maker.Make(ctx, item.Name, asked)
	if errors.Is(err, query.ErrHidden) {
		err = fmt.Errorf("%s: %w", item.UpdatedBy, ErrBlind)
	}
	if err != nil {
		return nil, err
	}
	var files []delivery.Attachment
	kinds := body.Files
	if len(kinds) == 0 {
		kinds = []string{"pdf"}
	}
	for _, kind := range kinds {
		var b bytes.Buffer
		f := delivery.Attachment{Name: made.FileName() + "." + kind, Type: "application/pdf"}
		if kind == "csv" {
			f.Type = "text/csv"
			err = made.CSV(&b)
		} else {
			err = made.PDF(&b, s.Organisation)
		}
		if err != nil {
			return nil, err
		}
		f.Data = b.Bytes()
		files = append(files, f)
	}
	var messages []delivery.Message
	for _, to := range body.To {
		messages = append(messages, delivery.Message{
			ID: uuid.New(), Key: fmt.Sprintf("report %s %s %s", item.ID, key, to), How: delivery.ByMail, To: to, About: item.ID,
			Subject: fmt.Sprintf("%s, %s", item.Name, made.Period()), Text: made.text(s.Organisation, s.Console), Files: files,
		})
	}
	return messages, nil
}

// text is what a mail says of the report that it carries.
func (m *Made) text(organisation, console string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n%s\n\n", m.Title, m.Period())
	row := func(name string, now, before int64) {
		fmt.Fprintf(&b, "%-10s %14s", name, Thousands(now))
		if m.Compare {
			fmt.Fprintf(&b, "  %s", Change(now, before))
		}
		b.WriteString("\n")
	}
	row("requests", m.Total.All(), m.Earlier.All())
	for _, v := range stacked[:4] {
		row(v.name, m.Total.Requests[v.at], m.Earlier.Requests[v.at])
	}
	fmt.Fprintf(&b, "\nThe report is attached. %s sends it by its timetable.\n", organisation)
	if console != "" {
		fmt.Fprintf(&b, "%s/reports\n", strings.TrimSuffix(console, "/"))
	}
	return b.String()
}
