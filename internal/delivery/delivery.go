// Package delivery delivers what the service tells people and programs: by mail (RFC 5321), and by posts that are signed (RFC 9421). Messages are kept until they are delivered.
//
// From: messages, in an outbox that services share.
// To: a mail server, and addresses that people gave.
package delivery

import (
	"context"
	"log/slog"
	"time"

	"github.com/google/uuid"

	"widelark/internal/access"
)

// How is a way of delivery.
type How string

// The ways.
const (
	ByMail How = "mail"
	ByHook How = "hook"
)

// Message is something that is delivered to one recipient.
type Message struct {
	ID      uuid.UUID
	Key     string // a message whose key was there before is not added again
	How     How
	To      string // an address for mail, or of a hook
	About   uuid.UUID
	Subject string
	Text    string       // of a mail; lines of at most 78 letters are not needed
	Files   []Attachment // of a mail
	JSON    []byte       // what is posted
	Secret  []byte       // sealed: with which it is signed; none for no signature
}

// Attachment is a file that a mail carries.
type Attachment struct {
	Name string
	Type string
	Data []byte
}

// State is what became of a message.
type State struct {
	Message // without files
	MadeAt  time.Time
	Tries   int
	NextAt  time.Time
	DoneAt  *time.Time
	GaveUp  bool   // it is not tried any more
	Problem string // why the last try failed
}

// Store keeps messages.
type Store interface {
	// AddMessages adds messages, those whose key is not there.
	AddMessages(ctx context.Context, messages []Message, by access.Actor) error
	// NextMessage returns a message that is due, and is not given to anybody else until a lease has run out. It reports false where there is none.
	NextMessage(ctx context.Context, lease time.Duration, by access.Actor) (m Message, tries int, ok bool, err error)
	// SettleMessage says what became of a try: delivered where problem is empty; else it is tried again at next or, where that is the zero time, not any more.
	SettleMessage(ctx context.Context, id uuid.UUID, problem string, next time.Time, by access.Actor) error
	// Messages returns the messages made last, of something or of everything, without files.
	Messages(ctx context.Context, about uuid.UUID, limit int) ([]State, error)
}

// Sender delivers a message.
type Sender interface {
	Send(ctx context.Context, m *Message) error
}

// Deliverer delivers what is due. Several services may run one each.
type Deliverer struct {
	Store   Store
	Senders map[How]Sender
	Log     *slog.Logger
}

// A try must end before others may take the message; a message that cannot be delivered is given up in the end.
const (
	lease      = 2 * time.Minute
	tryFor     = time.Minute
	firstAgain = 10 * time.Second
	mostAgain  = time.Hour
	mostTries  = 80 // some three days
	look       = time.Second
)

// Run delivers messages until the context ends.
func (d *Deliverer) Run(ctx context.Context) {
	tick := time.NewTicker(look)
	defer tick.Stop()
	for {
		for more := true; more && ctx.Err() == nil; {
			var err error
			if more, err = d.one(ctx); err != nil && ctx.Err() == nil {
				d.Log.WarnContext(ctx, "the outbox cannot be read; it is tried again", "error", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func (d *Deliverer) one(ctx context.Context) (more bool, err error) {
	m, tries, ok, err := d.Store.NextMessage(ctx, lease, access.Timetable)
	if err != nil || !ok {
		return false, err
	}
	trying, stop := context.WithTimeout(ctx, tryFor)
	defer stop()
	failed := errNoSender
	if sender := d.Senders[m.How]; sender != nil {
		failed = sender.Send(trying, &m)
	}
	problem, next := "", time.Time{}
	if failed != nil {
		if problem = failed.Error(); tries < mostTries {
			next = time.Now().Add(min(firstAgain<<min(tries, 10), mostAgain))
		}
		d.Log.WarnContext(ctx, "a message could not be delivered", "to", m.To, "how", m.How, "subject", m.Subject, "try", tries, "error", failed)
	}
	settling, done := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second) // what was delivered is not to be delivered again
	defer done()
	return true, d.Store.SettleMessage(settling, m.ID, problem, next, access.Timetable)
}
