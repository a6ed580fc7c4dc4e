package standing

import (
	"context"
	"net/netip"
	"time"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/access"
)

// Used says in which minutes somebody used what a rule allows for so many minutes a day.
type Used struct {
	Rule    uuid.UUID
	Person  uuid.UUID  // the zero id where nobody is known: the minutes are the address's then
	Address netip.Addr // not valid where they are the person's
	Minutes []int64    // since 1970 began
}

// fact returns it as the core has it.
func (u *Used) fact() policy.Used {
	f := policy.Used{Rule: u.Rule.String(), Addr: u.Address, Minutes: u.Minutes}
	if u.Person != uuid.Nil {
		f.Person = u.Person.String()
	}
	return f
}

// usedFor is how long used minutes are kept: those of today and yesterday count somewhere on Earth.
const usedFor = 48 * time.Hour

// Minutes keeps used minutes.
type Minutes interface {
	// AddUsed adds minutes to those that were used already; whoever adds one twice, or at two gates, has used it once.
	AddUsed(ctx context.Context, used []Used, by access.Actor) error

	Used(ctx context.Context, since time.Time) ([]Used, error)
}
