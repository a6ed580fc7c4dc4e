package revision

import (
	"context"

	"github.com/google/uuid"

	"widelark/core/pattern"
)

// Draft is the unpublished state at one version, as trials need it, without entries.
type Draft struct {
	Version int64
	Lists   []DraftList // by name

	Classified  int64 // the version when what is said about categories changed last
	Catalogue   int64 // the version of the catalogue
	Directories int64 // see [Now]
}

// DraftList is a list without its entries.
type DraftList struct {
	ID         uuid.UUID
	Name       string
	Version    int64
	EntryCount int64
}

// EntrySink takes entries one by one, but no notes.
type EntrySink interface {
	// Named takes an entry that is a literal host and nothing else; see [pattern.Named].
	Named(id int64, name string, scope pattern.Scope, carveOut bool)
	Entry(id int64, entry pattern.Entry)
}

// Now is the versions at a moment.
type Now struct {
	Draft       int64
	Catalogue   int64
	Directories int64 // the version of the people and groups of directories, which are the same in every version of the draft
	Live        Live
}

// Live is the revision that is live.
type Live struct {
	Number  int64
	Version int64 // of the draft, that it is
}

// DraftReader reads the draft as it is at one moment, or as it was at a version.
type DraftReader interface {
	Draft(ctx context.Context) (Draft, error)
	Local(ctx context.Context) (Local, error)
	Schedules(ctx context.Context) ([]Schedule, error)

	// Objects returns the objects that differ from another version, earlier or later; 0 for all. Objects with a table of their
	// own are not included. gone are the ids of objects that exist only at the other version.
	Objects(ctx context.Context, from int64) (changed []Object, gone []uuid.UUID, err error)

	// Entries passes the entries of a list to sink that do not exist at another version, earlier or later; 0 for all.
	Entries(ctx context.Context, list uuid.UUID, from int64, sink EntrySink) error

	// EntriesBetween passes the entries of a list whose ids are at least from and less than until.
	EntriesBetween(ctx context.Context, list uuid.UUID, from, until int64, sink EntrySink) error

	// Gone returns the ids of entries removed or changed since another version.
	Gone(ctx context.Context, list uuid.UUID, from int64) ([]int64, error)
}
