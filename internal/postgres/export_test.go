package postgres

import "widelark/internal/journal"

// RecordColumns and RowOf are for the anchor of the journal's measurement.
var RecordColumns = recordColumns

// RowOf is [rowOf].
func RowOf(r *journal.Record) []any { return rowOf(r) }
