package revision

import (
	"context"

	"github.com/google/uuid"

	"widelark/core/pattern"
)

// Draft is the unpublished state at one version, as trials need it, its entries aside.
type Draft struct {
	Version int64
	Lists   []DraftList // by name

	Classified int64 // the version when what is said about categories changed last
	Catalogue  int64 // the version of the catalogue
}

// DraftList is a list without its entries.
type DraftList struct {
	ID         uuid.UUID
	Name       string
	Version    int64
	EntryCount int64
}

// EntrySink takes entries one by one. Notes alone are not among them.
type EntrySink interface {
	// Named takes an entry that is a literal host and nothing else; see [pattern.Named].
	Named(id int64, name string, scope pattern.Scope, carveOut bool)
	Entry(id int64, entry pattern.Entry)
}

// DraftReader reads the draft as it is at one moment.
type DraftReader interface {
	Draft(ctx context.Context) (Draft, error)
	Local(ctx context.Context) (Local, error)
	Schedules(ctx context.Context) ([]Schedule, error)

	// Objects returns the objects of all kinds that came or changed after a version; 0 for all. Gone are the ids of those that went.
	Objects(ctx context.Context, since int64) (changed []Object, gone []uuid.UUID, err error)

	// Entries gives the entries of a list to sink that came after a version; 0 for all.
	Entries(ctx context.Context, list uuid.UUID, since int64, sink EntrySink) error

	// Gone returns the ids of entries of a list that were there at a version, and are not now as they were then.
	Gone(ctx context.Context, list uuid.UUID, since int64) ([]int64, error)
}
