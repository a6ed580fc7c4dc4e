package desk

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/core/weburl"
	"widelark/internal/access"
	"widelark/internal/delivery"
	"widelark/internal/revision"
	"widelark/internal/standing"
)

// Mailer tells the help desk of new requests by mail: once for each site, as long as a request for it is open. Several services may run one each.
type Mailer struct {
	Requests interface {
		Requests(ctx context.Context, openOnly bool, limit int) ([]standing.Request, error)
	}
	Practices interface {
		Practices(ctx context.Context) (revision.Practices, error)
	}
	Outbox       delivery.Store
	Organisation string
	Console      string // where the console is, for links; "" for none
	Log          *slog.Logger
}

// How often new requests are looked for, and how many open ones are looked at.
const (
	lookEvery = 5 * time.Second
	mostOpen  = 500
)

// Run tells of new requests until the context ends.
func (m *Mailer) Run(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		if err := m.once(ctx); err != nil && ctx.Err() == nil {
			m.Log.WarnContext(ctx, "the help desk could not be told of new requests; it is tried again", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func (m *Mailer) once(ctx context.Context) error {
	p, err := m.Practices.Practices(ctx)
	if err != nil || len(p.DeskMail) == 0 {
		return err
	}
	open, err := m.Requests.Requests(ctx, true, mostOpen)
	if err != nil || len(open) == 0 {
		return err
	}
	return m.Outbox.AddMessages(ctx, m.messages(open, p.DeskMail), access.Timetable)
}

// messages returns a message for each site and address. Its key is that of the request for the site that was made first of those that are open: later ones add no message, and none is sent twice.
func (m *Mailer) messages(open []standing.Request, to []string) (all []delivery.Message) {
	open = slices.Clone(open)
	slices.SortFunc(open, func(a, b standing.Request) int { return a.MadeAt.Compare(b.MadeAt) })
	told := map[string]bool{}
	for _, r := range open {
		site := r.URL
		if u, err := weburl.Parse(r.URL); err == nil {
			site = cmp.Or(u.Site(), u.Host())
		}
		if told[site] {
			continue
		}
		told[site] = true
		text := fmt.Sprintf("Somebody asks for a page of %s that was refused:\n\n%s\nNeeded for: %s\nRefused by: %s\nReference: %s\n", site, r.URL, r.Reason, r.By, r.Reference)
		if m.Console != "" {
			text += "\nAnswer it at " + strings.TrimSuffix(m.Console, "/") + "/requests\n"
		}
		text += "\nFurther requests for this site come without a mail, until all of them are answered.\n"
		for _, address := range to {
			all = append(all, delivery.Message{Key: "request " + r.ID.String() + " mail " + address, How: delivery.ByMail, To: address, About: uuid.Nil, Subject: fmt.Sprintf("%s: somebody asks for %s", m.Organisation, site), Text: text})
		}
	}
	return all
}
