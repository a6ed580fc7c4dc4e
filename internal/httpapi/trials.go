package httpapi

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/hands"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/schedule"
	"widelark/core/weburl"
	"widelark/internal/access"
	"widelark/internal/edition"
	"widelark/internal/revision"
	"widelark/internal/trial"
)

type trialsInput struct {
	Body struct {
		URLs []string `json:"urls" minItems:"1" maxItems:"10000" doc:"As a person types them or a log has them; without a scheme https is meant"`
		edition.Circumstances
		Outlook bool `json:"outlook,omitempty" doc:"With what is to come: until, the week, what would change the verdict; for at most 20 URLs"`
		Brief   bool `json:"brief,omitempty" doc:"Without steps, matches and classification"`
	}
}

type trialsOutput struct {
	Body struct {
		DraftVersion int64     `json:"draftVersion" doc:"The version of the draft that all of them were decided on"`
		Revision     int64     `json:"revision,omitempty" doc:"The revision that they were decided on; left out for the draft"`
		Who          Asker     `json:"who"`
		At           time.Time `json:"at"`
		Trials       []Trial   `json:"trials" doc:"In the order of the URLs"`
	}
}

// Trial is what happens to one URL.
type Trial struct {
	Input    string         `json:"input" doc:"The URL as given"`
	Problem  string         `json:"problem,omitempty" doc:"Why the input is not a URL; the other fields are left out then"`
	URL      string         `json:"url,omitempty" doc:"The canonical URL that was decided on"`
	Verdict  policy.Verdict `json:"verdict,omitempty" enum:"allow,watch,hold,block"`
	Sight    weburl.Sight   `json:"sight,omitempty" enum:"name,tunnel,full" doc:"At which it was decided"`
	AtFull   policy.Verdict `json:"atFull,omitempty" enum:"allow,watch,hold,block" doc:"At a lesser sight: what the verdict would be at full"`
	Because  string         `json:"because,omitempty" doc:"What decided, in one sentence"`
	Full     string         `json:"fullBecause,omitempty" doc:"Where it would be another verdict at full: what would decide then, in one sentence"`
	Way      policy.Way     `json:"way,omitempty" doc:"At a journey: the gates that the asker meets: dns, proxy, dns,proxy, icap or none. The way dns cuts nothing that runs"`
	Sees     policy.Sees    `json:"sees,omitempty" doc:"At a journey: what the person sees in the end"`
	Provisos string         `json:"provisos,omitempty" doc:"What an allowed request is bound to, in words"`
	NotHeld  string         `json:"notHeld,omitempty" doc:"What of it cannot be held by the gate that decides, at what it sees, in words"`
	SafeBy   string         `json:"safeBy,omitempty" doc:"Where safe search is held: what makes the engine's answers safe, as the parameter calm=1"`
	Spent    []Spent        `json:"spent,omitempty" doc:"How much is used of the minutes a day that the request is bound to"`
	Decider  *Step          `json:"decider,omitempty" doc:"The step that decided; left out where no rule did and an otherwise holds"`
	Steps    []Step         `json:"steps,omitempty" doc:"Every rung and rule that was looked at, in order"`
	Class    *Class         `json:"class,omitempty" doc:"What the URL is"`
	Matches  []Match        `json:"matches,omitempty" doc:"Every list that has something to say about the URL, in a rule or not"`
	Belongs  *Belongs       `json:"belongs,omitempty" doc:"What the request belongs to"`
	Stops    []Stop         `json:"stops,omitempty" doc:"At a journey: the gates on the way, up to the one that stops it"`
	Outlook  *Outlook       `json:"outlook,omitempty"`
}

// Belongs is what a request belongs to.
type Belongs struct {
	Groups   []Ref `json:"groups"`
	Network  *Ref  `json:"network,omitempty"`
	Policies []Ref `json:"policies" doc:"In their order; none: the fallback"`
}

// Stop is one gate on the way of a request.
type Stop struct {
	Gate    policy.Gate    `json:"gate" enum:"dns,proxy,icap"`
	Sight   weburl.Sight   `json:"sight" enum:"name,tunnel,full"`
	Verdict policy.Verdict `json:"verdict" enum:"allow,watch,hold,block"`
	Because string         `json:"because"`
	Opened  bool           `json:"opened,omitempty" doc:"The TLS connection is opened, so that the whole URL is seen"`
	NotHeld string         `json:"notHeld,omitempty" doc:"What the request is bound to, and this gate cannot hold at what it sees, in words"`
}

// Outlook is what is to come for one URL.
type Outlook struct {
	Until *time.Time `json:"until,omitempty" doc:"The next moment at which time alone changes the verdict; left out where it does not"`
	Week  []Segment  `json:"week" doc:"Seven days from the moment of the trial on"`
	Flips []Flip     `json:"flips" doc:"The smallest single changes that would turn the verdict round, each tried out, the narrowest first"`
}

// Flip is one change that would turn a verdict round, with what is needed to make it.
type Flip struct {
	Kind      policy.FlipKind    `json:"kind" enum:"add exception,end exception,end grant,take entry out,switch rule off,move rule up,correct category"`
	Text      string             `json:"text" doc:"The change in a sentence"`
	Verdict   policy.Verdict     `json:"verdict" enum:"allow,watch,hold,block" doc:"What it would be then"`
	Pattern   string             `json:"pattern,omitempty" doc:"add exception, correct category"`
	For       *revision.WhomBody `json:"for,omitempty" doc:"add exception"`
	ForName   string             `json:"forName,omitempty"`
	Exception *uuid.UUID         `json:"exception,omitempty" format:"uuid" doc:"end exception"`
	Grant     *uuid.UUID         `json:"grant,omitempty" format:"uuid" doc:"end grant"`
	List      *ListRef           `json:"list,omitempty" doc:"take entry out"`
	Entry     int64              `json:"entry,omitempty"`
	Policy    *uuid.UUID         `json:"policy,omitempty" format:"uuid" doc:"switch rule off, move rule up"`
	Rule      *int               `json:"rule,omitempty" doc:"switch rule off, move rule up: its place, from 0"`
	RuleID    string             `json:"ruleId,omitempty" doc:"The id of that rule"`
	Above     *int               `json:"above,omitempty" doc:"move rule up: the place that it would have"`
	AboveID   string             `json:"aboveId,omitempty" doc:"move rule up: the id of the rule that it would stand above"`
	Category  string             `json:"category,omitempty" doc:"correct category: the key of what it would not be any more"`
}

// Step is one thing that was looked at.
type Step struct {
	Rung     policy.Rung    `json:"rung" enum:"baseline,unlocked,exception,stint,policy,fallback"`
	Policy   string         `json:"policy,omitempty"`
	Rule     string         `json:"rule,omitempty" doc:"The name of the rule, exception or stint; left out for a policy's otherwise and, where no policy is named either, for a rung on which nothing applies"`
	ID       string         `json:"id,omitempty" doc:"Of the policy or exception"`
	Grant    bool           `json:"grant,omitempty" doc:"The exception is a grant"`
	RuleID   string         `json:"ruleId,omitempty" doc:"Of the rule, which stays through edits, moves and renames"`
	Place    int            `json:"place" doc:"Of the rule in its policy, from 0; -1 where it is none"`
	Then     policy.Verdict `json:"then,omitempty" enum:"allow,watch,hold,block,note"`
	Outcome  policy.Outcome `json:"outcome" doc:"decided; outweighed, where another of several counts; matched, went on; no match; not now; cannot tell; off; not reached"`
	When     string         `json:"when,omitempty" doc:"The schedule that it asks, in words"`
	Next     *time.Time     `json:"next,omitempty" doc:"At not now: the next moment at which its time comes"`
	Missing  string         `json:"missing,omitempty" doc:"At cannot tell: what would have to be seen; at no match of an exception or a whole rung: why"`
	By       string         `json:"by,omitempty" doc:"What made it match, in a clause"`
	List     *ListRef       `json:"list,omitempty" doc:"The first list that made it match or, where the sight cannot tell, that might have; reached or not"`
	Category *CategoryRef   `json:"category,omitempty"`
	Entry    *EntryRef      `json:"entry,omitempty" doc:"Of the list or the exception, or what gives the category"`
}

// Spent is how much somebody has used of the minutes a day that a rule allows.
type Spent struct {
	Policy  string `json:"policy"`
	Rule    string `json:"rule"`
	Minutes int    `json:"minutes" doc:"Of the day of the trial, before its minute"`
	Of      int    `json:"of" doc:"Minutes a day"`
}

// ListRef names a list.
type ListRef struct {
	ID   uuid.UUID `json:"id" format:"uuid"`
	Name string    `json:"name"`
}

// Match is one list that has something to say about a URL.
type Match struct {
	List      ListRef      `json:"list"`
	In        match.Answer `json:"in" enum:"yes,no,cannot tell" doc:"Whether an entry covers the URL and no carve-out does"`
	Entries   []EntryRef   `json:"entries" doc:"Entries in force that cover the URL, the most specific first"`
	CarveOuts []EntryRef   `json:"carveOuts" doc:"Carve-outs in force that cover it"`
	Unclear   []EntryRef   `json:"unclear,omitempty" doc:"At a lesser sight: the first 100 entries and carve-outs for which it cannot be told whether they cover the URL"`
}

// EntryRef is an entry of a list.
type EntryRef struct {
	ID      int64  `json:"id"`
	Text    string `json:"text" doc:"The whole line in the notation"`
	Pattern string `json:"pattern" doc:"The line without its attributes and note"`
	Explain string `json:"explain"`
}

type matrixInput struct {
	Body struct {
		URLs []string      `json:"urls" minItems:"1" maxItems:"5000"`
		Who  []edition.Who `json:"who,omitempty" maxItems:"200" doc:"The columns; left out, every group that has a policy"`
		At   string        `json:"at,omitempty" maxLength:"60" doc:"As for a trial"`
		edition.Setting
	}
}

type matrixOutput struct {
	Body struct {
		DraftVersion int64       `json:"draftVersion"`
		At           time.Time   `json:"at"`
		Who          []Asker     `json:"who" doc:"The columns"`
		Rows         []MatrixRow `json:"rows" doc:"In the order of the URLs"`
	}
}

// MatrixRow is one URL with the verdicts of all columns.
type MatrixRow struct {
	Input   string `json:"input"`
	Problem string `json:"problem,omitempty"`
	Cells   []Cell `json:"cells"`
}

// Cell is a verdict with what says so.
type Cell struct {
	Verdict policy.Verdict `json:"verdict" enum:"allow,watch,hold,block"`
	By      string         `json:"by"`
}

type sweepInput struct {
	Body struct {
		URLs []string      `json:"urls" minItems:"1" maxItems:"200"`
		Who  []edition.Who `json:"who,omitempty" maxItems:"50" doc:"Left out, every group that has a policy"`
		From string        `json:"from,omitempty" maxLength:"60" doc:"As the moment of a trial; left out, the beginning of today"`
		Days int           `json:"days,omitempty" minimum:"1" maximum:"60" doc:"Left out: 7"`
		edition.Setting
	}
}

type sweepOutput struct {
	Body struct {
		DraftVersion int64      `json:"draftVersion"`
		From         time.Time  `json:"from"`
		To           time.Time  `json:"to"`
		Rows         []SweepRow `json:"rows" doc:"URL by URL, and for each who asks"`
	}
}

// SweepRow is the verdicts on one URL for one who asks.
type SweepRow struct {
	URL   string    `json:"url"`
	Who   Asker     `json:"who"`
	Strip []Segment `json:"strip"`
}

type compareTrialsInput struct {
	Body struct {
		URL     string                `json:"url" minLength:"1"`
		A       edition.Circumstances `json:"a"`
		B       edition.Circumstances `json:"b"`
		Journey bool                  `json:"journey,omitempty" doc:"Both through all gates on their ways. They part by what the gate says that decides"`
	}
}

type compareTrialsOutput struct {
	Body struct {
		DraftVersion int64        `json:"draftVersion"`
		A            Compared     `json:"a"`
		B            Compared     `json:"b"`
		Same         bool         `json:"same" doc:"Both get the same verdict"`
		Parts        *policy.Rung `json:"parts,omitempty" enum:"baseline,unlocked,exception,stint,policy,fallback" doc:"The first rung at which they part; left out where they do not"`
		A1           *Step        `json:"aStep,omitempty" doc:"The first step in which they differ"`
		B1           *Step        `json:"bStep,omitempty"`
		Because      string       `json:"because" doc:"Where they part, in a sentence"`
	}
}

// Compared is one side of a comparison.
type Compared struct {
	Who   Asker     `json:"who"`
	At    time.Time `json:"at"`
	Trial Trial     `json:"trial"`
}

// maxOutlooks bounds how many URLs are looked ahead for: each takes some milliseconds.
const maxOutlooks = 20

func (s *server) registerTrials(api huma.API) {
	try := operation("tryUrls", http.MethodPost, "/trials", "Trials", "What happens to these URLs, and why", 422)
	try.MaxBodyBytes = 32 << 20
	huma.Register(api, try, s.try)
	matrix := operation("tryMatrix", http.MethodPost, "/trials/matrix", "Trials", "What happens to these URLs for several who ask", 422)
	matrix.MaxBodyBytes = 32 << 20
	huma.Register(api, matrix, s.matrix)
	huma.Register(api, operation("sweepTrials", http.MethodPost, "/trials/sweep", "Trials", "What happens to these URLs over days", 422), s.sweep)
	huma.Register(api, operation("compareTrials", http.MethodPost, "/trials/compare", "Trials", "Where two trials of one URL part", 422), s.compare)
}

func (s *server) try(ctx context.Context, in *trialsInput) (*trialsOutput, error) {
	q := trial.Question{URLs: in.Body.URLs, Circumstances: in.Body.Circumstances, Outlook: in.Body.Outlook}
	if q.Outlook && len(q.URLs) > maxOutlooks {
		return nil, s.problem(ctx, &revision.FieldError{Field: "outlook", Msg: fmt.Sprintf("at most %d URLs can be looked ahead for at once", maxOutlooks)})
	}
	h, err := s.inForce(ctx, "on", in.Body.On)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	answers, err := trial.Try(ctx, h, "", q)
	if err == nil {
		err = s.checkAskers(ctx, access.Try, answers.Asked.Who)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	t := answer{h, naming{h.Snapshot.Config().Taxonomy}, in.Body.Brief}
	out := &trialsOutput{}
	out.Body.DraftVersion, out.Body.Revision, out.Body.Who, out.Body.At = answers.DraftVersion, answers.Revision, askerBody(answers.Asked.Who), answers.Asked.At
	out.Body.Trials = make([]Trial, len(answers.Answers))
	const share = 256 // answer takes longer than deciding, so many are shared out
	var group hands.Group
	for begin := 0; begin < len(answers.Answers); begin += share {
		group.Go(func() {
			for i := begin; i < min(begin+share, len(answers.Answers)); i++ {
				out.Body.Trials[i] = t.trial(&answers.Answers[i])
			}
		})
	}
	group.Wait()
	return out, nil
}

// answer makes answers of trials.
type answer struct {
	state *edition.State
	names naming
	brief bool
}

func (t answer) trial(a *trial.Answer) Trial {
	if a.Problem != "" {
		return Trial{Input: a.Input, Problem: a.Problem}
	}
	e := &a.Explanation
	answer := Trial{Input: a.Input, URL: a.URL.String(), Verdict: a.Verdict, Sight: a.Sight, Because: e.Because, AtFull: a.AtFull, Full: a.FullBecause, Provisos: e.Decision.Provisos.String(), NotHeld: e.NotHeld.String(), SafeBy: e.Safe.String()}
	for _, spent := range e.Spent {
		answer.Spent = append(answer.Spent, Spent(spent))
	}
	if e.Decider >= 0 && e.Steps[e.Decider].Rule != "" {
		step := t.step(&e.Steps[e.Decider])
		answer.Decider = &step
	}
	if a.Journey != nil {
		answer.Way, answer.Sees, answer.Stops = a.Journey.Way, a.Journey.Sees, []Stop{}
		for _, stop := range a.Journey.Stops {
			answer.Stops = append(answer.Stops, Stop{stop.Gate, stop.Sight, stop.Explanation.Decision.Verdict, stop.Explanation.Because, stop.Opened, stop.Explanation.NotHeld.String()})
		}
	}
	if a.Outlook != nil {
		answer.Outlook = t.outlook(a.Outlook)
	}
	if t.brief {
		return answer
	}
	for i := range e.Steps {
		answer.Steps = append(answer.Steps, t.step(&e.Steps[i]))
	}
	answer.Matches, answer.Class = matches(e.Hits), t.names.class(e.Class)
	answer.Belongs = &Belongs{refsOf(e.Groups), refOf(e.Network), refsOf(e.Policies)}
	return answer
}

func (t answer) step(step *policy.Step) Step {
	answer := Step{
		Rung: step.Rung, Policy: step.Policy, Rule: step.Rule, ID: step.PolicyID + step.ID, RuleID: step.RuleID, Grant: step.Grant, Place: int(step.Place), Then: step.Then,
		Outcome: step.Outcome, When: step.When, Missing: step.Missing, By: policy.Reasons(step.Evidence),
	}
	if !step.Next.IsZero() {
		next := step.Next.In(t.state.Zone)
		answer.Next = &next
	}
	if len(step.Evidence) == 0 {
		return answer
	}
	first := step.Evidence[0]
	if first.List != nil {
		list := listRef(*first.List)
		answer.List = &list
	}
	if first.Category != nil {
		category := t.names.ref(first.Category.Key)
		answer.Category = &category
	}
	if first.Entry != nil {
		entry := entryRef(*first.Entry)
		answer.Entry = &entry
	}
	return answer
}

// whomBody says for whom an exception would be.
func whomBody(w policy.Whom) revision.WhomBody {
	whom := revision.WhomBody{Everybody: w.Everybody, Persons: idRefs(w.Persons), Groups: idRefs(w.Groups), Networks: idRefs(w.Networks)}
	for _, r := range w.Ranges {
		whom.Addresses = append(whom.Addresses, r.Addr().String())
	}
	return whom
}

func (t answer) outlook(o *trial.Outlook) *Outlook {
	answer := &Outlook{Week: segments(t.state, o.Week), Flips: []Flip{}}
	if !o.Until.IsZero() {
		until := o.Until.In(t.state.Zone)
		answer.Until = &until
	}
	for _, f := range o.Flips {
		answer.Flips = append(answer.Flips, flipBody(f))
	}
	return answer
}

func flipBody(f policy.Flip) Flip {
	flip := Flip{Kind: f.Kind, Text: f.Text, Verdict: f.Verdict, Category: f.Category, Entry: f.Entry}
	switch f.Kind {
	case policy.AddException:
		whom := whomBody(f.Whom)
		flip.Pattern, flip.For, flip.ForName = f.Pattern.String(), &whom, f.WhomName
	case policy.EndGrant:
		id := uuid.MustParse(f.Exception)
		flip.Grant = &id
	case policy.EndException:
		id := uuid.MustParse(f.Exception)
		flip.Exception = &id
	case policy.TakeEntryOut:
		list := listRef(*f.List)
		flip.List = &list
	case policy.SwitchOff, policy.LiftRule:
		id := uuid.MustParse(f.Policy)
		place := int(f.Place)
		flip.Policy, flip.Rule, flip.RuleID, flip.AboveID = &id, &place, f.RuleID, f.AboveID
		if f.Kind == policy.LiftRule {
			above := int(f.Above)
			flip.Above = &above
		}
	case policy.Correct:
		flip.Pattern = f.Pattern.String()
	}
	return flip
}

func idRefs(ids []string) []Ref {
	var refs []Ref
	for _, id := range ids {
		refs = append(refs, Ref{ID: uuid.MustParse(id)})
	}
	return refs
}

// askers finds who asks; where nobody is named, unnamed members of every group that has a policy.
func askers(h *edition.State, named []edition.Who) (found []edition.Asker, err error) {
	for i, who := range named {
		asker, err := h.Find(fmt.Sprintf("who[%d]", i), who)
		if err != nil {
			return nil, err
		}
		found = append(found, h.Present(asker, h.Now()))
	}
	if len(named) > 0 {
		return found, nil
	}
	config := h.Snapshot.Config()
	var seen []string
	for _, p := range config.Policies {
		for _, id := range p.Groups {
			if slices.Contains(seen, id) {
				continue
			}
			seen = append(seen, id)
			asker, err := h.Find("who", edition.Who{Group: id})
			if err != nil {
				return nil, err
			}
			found = append(found, asker)
		}
	}
	if len(found) == 0 {
		found = []edition.Asker{{}}
	}
	return found, nil
}

func (s *server) matrix(ctx context.Context, in *matrixInput) (*matrixOutput, error) {
	b := in.Body
	h, err := s.inForce(ctx, "on", b.On)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	who, err := askers(h, b.Who)
	if err == nil {
		err = s.checkAskers(ctx, access.Try, who...)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	at, err := h.Moment("at", b.At)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	asked := make([]edition.Asked, len(who))
	for i, asker := range who {
		asked[i] = asker.When(at, b.Setting)
	}
	cells, err := trial.Matrix(ctx, h, b.URLs, asked)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &matrixOutput{}
	out.Body.DraftVersion, out.Body.At = h.DraftVersion, at
	for _, asker := range who {
		out.Body.Who = append(out.Body.Who, askerBody(asker))
	}
	for i, row := range cells {
		answer := MatrixRow{Input: b.URLs[i], Cells: []Cell{}}
		if _, err := weburl.Parse(b.URLs[i]); err != nil {
			answer.Problem = "it is not a URL"
			out.Body.Rows = append(out.Body.Rows, answer)
			continue
		}
		for _, cell := range row {
			answer.Cells = append(answer.Cells, Cell{cell.Decision.Verdict, h.Snapshot.Source(cell.Decision)})
		}
		out.Body.Rows = append(out.Body.Rows, answer)
	}
	return out, nil
}

func (s *server) sweep(ctx context.Context, in *sweepInput) (*sweepOutput, error) {
	b := in.Body
	h, err := s.inForce(ctx, "on", b.On)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	who, err := askers(h, b.Who)
	if err == nil {
		err = s.checkAskers(ctx, access.Try, who...)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	from := h.Today()
	if b.From != "" {
		if from, err = h.Moment("from", b.From); err != nil {
			return nil, s.problem(ctx, err)
		}
	}
	days := b.Days
	if days == 0 {
		days = 7
	}
	out := &sweepOutput{}
	out.Body.DraftVersion, out.Body.From, out.Body.To = h.DraftVersion, from, schedule.DaysLater(from, days, h.Zone)
	for i, text := range b.URLs {
		u, err := weburl.Parse(text)
		if err != nil {
			return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("urls[%d]", i), Msg: err.Error()})
		}
		for _, asker := range who {
			if err := ctx.Err(); err != nil {
				return nil, s.problem(ctx, err)
			}
			strip := trial.Sweep(h, u, asker.When(from, b.Setting), out.Body.To)
			out.Body.Rows = append(out.Body.Rows, SweepRow{u.String(), askerBody(asker), segments(h, strip)})
		}
	}
	return out, nil
}

func (s *server) compare(ctx context.Context, in *compareTrialsInput) (*compareTrialsOutput, error) {
	h, err := s.Editions.Draft(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &compareTrialsOutput{}
	out.Body.DraftVersion = h.DraftVersion
	var sides [2]trial.Answer
	var tell [2]answer // each in the words of what it was asked of: the draft's names are not those of a revision
	for i, side := range []struct {
		field string
		c     edition.Circumstances
		into  *Compared
	}{{"a.", in.Body.A, &out.Body.A}, {"b.", in.Body.B, &out.Body.B}} {
		h, err := s.inForce(ctx, side.field+"on", side.c.On)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		tell[i] = answer{h, naming{h.Snapshot.Config().Taxonomy}, false}
		q := trial.Question{URLs: []string{in.Body.URL}, Circumstances: side.c}
		q.Journey = q.Journey || in.Body.Journey
		answers, err := trial.Try(ctx, h, side.field, q)
		if err == nil {
			err = s.checkAskers(ctx, access.Try, answers.Asked.Who)
		}
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		if sides[i] = answers.Answers[0]; sides[i].Problem != "" {
			return nil, s.problem(ctx, &revision.FieldError{Field: "url", Msg: sides[i].Problem})
		}
		*side.into = Compared{askerBody(answers.Asked.Who), answers.Asked.At, tell[i].trial(&sides[i])}
	}
	out.Body.Same = sides[0].Verdict == sides[1].Verdict
	part := trial.PartOf(&sides[0].Explanation, &sides[1].Explanation)
	if part == nil {
		out.Body.Because = "They do not part: the same steps come to the same."
		return out, nil
	}
	out.Body.Parts = &part.Rung
	for i, step := range []*policy.Step{part.A, part.B} {
		if step != nil {
			answer := tell[i].step(step)
			*[]**Step{&out.Body.A1, &out.Body.B1}[i] = &answer
		}
	}
	nameA, nameB := out.Body.A.Who.Name, out.Body.B.Who.Name
	if nameA == nameB {
		if onA, onB := cmp.Or(in.Body.A.On, "draft"), cmp.Or(in.Body.B.On, "draft"); onA != onB {
			nameA, nameB = nameA+" ("+onA+")", nameB+" ("+onB+")"
		} else {
			nameA, nameB = nameA+" "+out.Body.A.At.Format("Mon 15:04"), nameB+" "+out.Body.B.At.Format("Mon 15:04")
		}
	}
	out.Body.Because = partedSaid(nameA, nameB, &sides[0].Explanation, &sides[1].Explanation, part)
	return out, nil
}

// partedSaid says where two trials part.
func partedSaid(nameA, nameB string, a, b *policy.Explanation, part *trial.Part) string {
	text := fmt.Sprintf("They part at the rung %q: %s; %s.", part.Rung, partSaid(nameA, part.A), partSaid(nameB, part.B))
	for _, side := range []struct {
		name     string
		its, not []match.Ref
	}{{nameA, a.Policies, b.Policies}, {nameB, b.Policies, a.Policies}} {
		for _, p := range side.its {
			if !slices.Contains(side.not, p) {
				text += fmt.Sprintf(" Only %s has the policy %q.", side.name, p.Name)
			}
		}
	}
	return text
}

// partSaid says what one side comes to where two trials part.
func partSaid(name string, step *policy.Step) string {
	if step == nil {
		return name + " has nothing more to be asked there"
	}
	what := "its otherwise"
	switch {
	case step.Rule == "" && step.Policy == "":
		return fmt.Sprintf("for %s, %s", name, step.Missing)
	case step.Rule != "" && step.Policy != "":
		what = fmt.Sprintf("the rule %q of %q", step.Rule, step.Policy)
	case step.Rule != "":
		what = fmt.Sprintf("%q", step.Rule)
	case step.Policy != "":
		what = fmt.Sprintf("the otherwise of %q", step.Policy)
	}
	clause := fmt.Sprintf("for %s, %s: %s", name, what, step.Outcome)
	if step.Outcome == policy.Decided && step.Then != "" {
		clause += " to " + string(step.Then)
	}
	if step.When != "" && step.Outcome == policy.NotNow {
		clause += " (it holds " + step.When + ")"
	}
	return clause
}

// maxUnclear bounds how many unclear entries of a list are returned.
const maxUnclear = 100

func matches(hits []match.Hit) []Match {
	var all []Match
	for _, hit := range hits {
		unclear := append(slices.Clone(hit.Unclear), hit.UnclearCarveOuts...)
		all = append(all, Match{
			List: listRef(hit.List), In: hit.In(), Entries: entryRefs(hit.Covering), CarveOuts: entryRefs(hit.CarveOuts),
			Unclear: entryRefs(unclear[:min(len(unclear), maxUnclear)]),
		})
	}
	return all
}

func listRef(l match.Ref) ListRef { return ListRef{ID: uuid.MustParse(l.ID), Name: l.Name} }

func entryRef(found match.Found) EntryRef {
	bare := pattern.Entry{Pattern: found.Pattern, CarveOut: found.CarveOut}
	return EntryRef{ID: found.ID, Text: found.String(), Pattern: bare.String(), Explain: pattern.Explain(found.Entry)}
}

func entryRefs(found []match.Found) []EntryRef {
	refs := make([]EntryRef, len(found))
	for i, f := range found {
		refs[i] = entryRef(f)
	}
	return refs
}
