// Package question holds the common parts of commands that ask: the circumstances of a question, its URLs, and verdicts over a week.
//
// From: flags and files.
// To: questions in the form of the API, and answers as tables.
package question

import (
	"cmp"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

// Circumstances holds the flags for the circumstances of a question: who asks, when, and which parts of the request are seen.
type Circumstances struct {
	Person, Group, Address, At, Sight, Gate, Method, Way, On string
	Traits, Answer, Chain                                    string // with commas between them
	Journey                                                  bool
}

// RegisterWho adds the flags that say who asks, with a prefix before each name.
func (c *Circumstances) RegisterWho(cmd *cobra.Command, before string) {
	flags := cmd.Flags()
	flags.StringVar(&c.Person, before+"as", "", "the person who asks, by name")
	flags.StringVar(&c.Group, before+"group", "", "the group that an unnamed member of asks")
	flags.StringVar(&c.Address, before+"from", "", "the address that is asked from")
}

// Register adds the flags that say who asks, when, and at which sight.
func (c *Circumstances) Register(cmd *cobra.Command, before string) {
	c.RegisterWho(cmd, before)
	flags := cmd.Flags()
	flags.StringVar(&c.At, before+"at", "", "when: now, 12:30, 'tue 12:30', '2026-12-24 12:30' or RFC 3339")
	flags.StringVar(&c.Sight, before+"sight", "", "what can be seen of the request: name (the host), tunnel (host and port over https) or full")
}

// WayText returns a way in words.
func WayText(way string) string {
	if way == "none" {
		return "no gate"
	}
	return strings.ReplaceAll(way, ",", ", ")
}

// None reports whether none of the flags is given.
func (c *Circumstances) None() bool { return *c == Circumstances{} }

// Nobody reports whether no flag says who asks.
func (c *Circumstances) Nobody() bool { return c.Person == "" && c.Group == "" && c.Address == "" }

// Or fills in circumstances that are not given from others.
func (c Circumstances) Or(others Circumstances) Circumstances {
	if c.Nobody() {
		c.Person, c.Group, c.Address = others.Person, others.Group, others.Address
	}
	for _, field := range [][2]*string{{&c.At, &others.At}, {&c.Sight, &others.Sight}, {&c.Gate, &others.Gate}, {&c.Method, &others.Method}, {&c.Way, &others.Way}, {&c.On, &others.On}, {&c.Traits, &others.Traits}, {&c.Answer, &others.Answer}, {&c.Chain, &others.Chain}} {
		*field[0] = cmp.Or(*field[0], *field[1])
	}
	c.Journey = c.Journey || others.Journey
	return c
}

func (c *Circumstances) Who() client.Who {
	return client.Who{Person: command.Optional[string](c.Person), Group: command.Optional[string](c.Group), Address: command.Optional[string](c.Address)}
}

// Body returns the circumstances in the form of the API.
func (c *Circumstances) Body() client.Circumstances {
	who := c.Who()
	body := c.Setting()
	body.Who = &who
	return body
}

// Setting is Body without who asks, for questions about several people or groups.
func (c *Circumstances) Setting() client.Circumstances {
	body := client.Circumstances{
		At: command.Optional[string](c.At), Sight: command.Optional[client.CircumstancesSight](c.Sight), Gate: command.Optional[client.CircumstancesGate](c.Gate),
		Method: command.Optional[string](c.Method), On: command.Optional[string](c.On), Journey: &c.Journey, Way: command.Optional[string](c.Way),
	}
	if c.Traits != "" {
		body.Traits = &[]client.CircumstancesTraits{}
		for t := range strings.SplitSeq(c.Traits, ",") {
			*body.Traits = append(*body.Traits, client.CircumstancesTraits(strings.TrimSpace(t)))
		}
	}
	if c.Chain != "" {
		body.Chain = &[]string{}
		for name := range strings.SplitSeq(c.Chain, ",") {
			*body.Chain = append(*body.Chain, strings.TrimSpace(name))
		}
	}
	if c.Answer != "" {
		body.Answer = &[]client.CircumstancesAnswer{}
		for kind := range strings.SplitSeq(c.Answer, ",") {
			*body.Answer = append(*body.Answer, client.CircumstancesAnswer(strings.TrimSpace(kind)))
		}
	}
	return body
}
