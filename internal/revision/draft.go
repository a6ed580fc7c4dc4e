package revision

import (
	"github.com/google/uuid"

	"widelark/core/pattern"
)

// Draft is the unpublished state at one version, as trials need it.
type Draft struct {
	Version  int64
	Lists    []DraftList // by name
	Policies []Policy    // in their order
}

// DraftList is a list with its entries.
type DraftList struct {
	ID      uuid.UUID
	Name    string
	Version int64
	Entries []pattern.Entry // nil where the caller said that it has this version
	IDs     []int64         // the ids of Entries, position by position
}
