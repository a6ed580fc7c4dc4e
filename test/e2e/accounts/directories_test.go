package accounts

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
	"widelark/test/e2e/house"
)

// An owner has a directory kept in the console: its people are handed over from the draft, what would take many of them away waits, and what it says is not edited here.
func TestConsoleDirectories(t *testing.T) {
	t.Parallel()
	s := ward(t)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	b := browser.Open(t, s.URL)
	b.SignIn("edda", testkit.Password)
	b.GoTo("/people?view=directories")
	b.See("main", "No directory is read yet.")
	b.Accessible("no directories")
	b.Press("Directory")
	b.Fill("[role=dialog] input", "Students")
	b.Choose("[role=dialog] select", "file")
	b.Press("Add the directory")
	b.Gone("[role=dialog]")
	b.See("main", "From files that are handed over.")
	people := "name,full name,groups,key\nkay.moran,Kay Moran,First year,s-1\ntarn,Tarn Grebe,First year,s-2\nwren,Wren Hollis,First year,s-3\n"
	run("directory", "import", "Students", house.File(t, "students.csv", []byte(people)))
	b.See("main", "In force: 3 people and 1 group")
	b.See("main", "1 person is elsewhere under the same name")
	b.Press("Hand them over…")
	b.See("[role=dialog]", `kay.moran is in "Wards", and would not be any more`)
	b.Press("Cancel")
	run("group", "edit", "Wards", "--group", "First year")
	run("publish", "--note", "the first year is on the wards")
	b.Press("Hand them over…")
	b.See("[role=dialog]", "1 person of the draft can be handed over")
	b.Accessible("handing people over")
	b.Press("Hand over")
	b.Gone("[role=dialog]")
	assert.Contains(t, run("person", "ls", "-o", "csv"), "kay.moran,Kay Moran,First year,,Students")

	run("directory", "import", "Students", house.File(t, "fewer.csv", []byte(people[:len(people)-len("tarn,Tarn Grebe,First year,s-2\nwren,Wren Hollis,First year,s-3\n")])))
	b.See("main", "A change waits: 0 come, 0 change, 2 go")
	b.See("main", "Because 2 of 3 people would go, more than 10 per cent.")
	b.See("[aria-label='The change that waits']", "out of First year")
	b.Accessible("a change that waits")
	b.Press("Put in force")
	b.See("main", "In force: 1 person")
	b.Press("Back to the state before")
	b.See("main", "In force: 3 people")

	b.GoTo("/people")
	b.Press("Kay Moran")
	b.See("[role=dialog]", "From the directory Students, and edited there.")
	b.Gone("[role=dialog] button[type=submit]")
}
