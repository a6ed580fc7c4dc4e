package account

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"widelark/client"
	"widelark/internal/cli/command"
)

func TestDraftText(t *testing.T) {
	a := command.InZone(time.FixedZone("", 3600))
	d := client.DraftOutputBody{Live: client.Revision{Number: 2, Note: "as it is run"}, Expected: 30}
	assert.Equal(t, `Live is revision 2, "as it is run"; the draft is the same.`, draftText(a, d))
	d.Changed, d.Failing = 1, 2
	assert.Equal(t, `Live is revision 2, "as it is run"; the draft differs in 1 object. 2 of 30 expectations fail.`, draftText(a, d))
	d.Failing, d.Planned = 0, []client.Planned{{Version: 7, Due: time.Date(2026, 11, 30, 5, 0, 0, 0, time.UTC)}}
	assert.Equal(t, `Live is revision 2, "as it is run"; the draft differs in 1 object. Version 7 goes live on Mon 30 Nov 06:00.`, draftText(a, d))
}
