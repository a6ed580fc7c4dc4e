package revision

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"

	"widelark/internal/access"
)

// Kind is a kind of object that is kept as one piece: who asks, and what is decided about them.
type Kind string

// The kinds of objects. The last five have a table of their own for what they are now.
const (
	KindPerson    Kind = "person"
	KindGroup     Kind = "group"
	KindNetwork   Kind = "network"
	KindMachine   Kind = "machine"
	KindPolicy    Kind = "policy"
	KindException Kind = "exception"
	KindApp       Kind = "app"
	KindEngine    Kind = "engine"
	KindSettings  Kind = "settings" // one object: how policies work together

	KindExpectation Kind = "expectation"

	KindList       Kind = "list"
	KindSchedule   Kind = "schedule"
	KindScorecard  Kind = "scorecard"
	KindCategory   Kind = "category" // of our own
	KindCorrection Kind = "correction"
)

// Kinds lists every kind.
var Kinds = []Kind{
	KindList, KindSchedule, KindCategory, KindScorecard, KindCorrection, KindPerson, KindGroup, KindNetwork, KindMachine, KindPolicy, KindException, KindApp, KindEngine, KindSettings, KindExpectation,
}

// Meta is what every object has.
type Meta struct {
	ID        uuid.UUID `json:"id" format:"uuid"`
	Name      string    `json:"name"`
	Version   int64     `json:"version" doc:"Rises with every edit; the ETag holds it"`
	UpdatedAt time.Time `json:"updatedAt"`
	UpdatedBy string    `json:"updatedBy"`
	Directory uuid.UUID `json:"-"` // that says so; [uuid.Nil] for what is edited in the draft
}

// Object is one object as it is kept. Body is the JSON of the body of its kind, references without names.
type Object struct {
	Meta
	Kind Kind
	Body []byte
}

// Ref refers to another object by its id. Its name is there for people: answers have it, and it is passed over in what comes in.
type Ref struct {
	ID   uuid.UUID `json:"id" format:"uuid"`
	Name string    `json:"name,omitempty"`
}

// UnmarshalJSON also takes a name alone, as files have it.
func (r *Ref) UnmarshalJSON(text []byte) error {
	if len(text) > 0 && text[0] == '"' {
		*r = Ref{}
		return json.Unmarshal(text, &r.Name)
	}
	type plain Ref
	return json.Unmarshal(text, (*plain)(r))
}

// ListRef names a list.
type ListRef = Ref

// Body is what an object says. It is implemented by pointers to the types of each kind.
type Body interface {
	// Check puts the body into the form in which it is kept, or says what is wrong with it as a [*FieldError].
	Check() error

	// Refs visits every reference, with the path of its field.
	Refs(visit func(field string, kind Kind, ref *Ref))
}

// ObjectChange is one change of an object. Without an id, or with New, it is new; with Remove it goes.
type ObjectChange struct {
	Kind    Kind
	ID      uuid.UUID
	New     bool  // with an id of the caller's making, so that others may refer to it
	Version int64 // what the caller last saw; 0 for whatever it is now
	Name    string
	Body    Body
	Remove  bool
}

// ObjectUse says that an object refers to another.
type ObjectUse struct {
	Kind Kind      `json:"kind"`
	ID   uuid.UUID `json:"id" format:"uuid"`
	Name string    `json:"name"`
}

// ObjectStore keeps objects in the draft. See [Store] for version and by.
type ObjectStore interface {
	Objects(ctx context.Context, kind Kind) ([]Object, error) // by name
	Object(ctx context.Context, kind Kind, id uuid.UUID) (Object, error)

	// Change makes changes, all or none, as one edit. The objects come back in the order of the changes; those that are gone are empty.
	Change(ctx context.Context, changes []ObjectChange, by access.Actor) ([]Object, error)

	Members(ctx context.Context) (map[uuid.UUID]int, error)                   // how many persons are in each group, directly or through groups that it holds
	Names(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]string, error) // of objects of all kinds, also of those that are gone
	Uses(ctx context.Context, kind Kind, id uuid.UUID) ([]ObjectUse, error)   // what refers to it
}

// Decode reads the body of an object.
func Decode[B any](o Object) (B, error) {
	var body B
	if err := json.Unmarshal(o.Body, &body); err != nil {
		return body, fmt.Errorf("the %s %q cannot be read any more: %w", o.Kind, o.Name, err)
	}
	return body, nil
}

// Decoded reads the body of an object of any kind that has no table of its own.
func (o Object) Decoded() (Body, error) {
	var body Body
	switch o.Kind {
	case KindPerson:
		body = &PersonBody{}
	case KindGroup:
		body = &GroupBody{}
	case KindNetwork:
		body = &NetworkBody{}
	case KindMachine:
		body = &MachineBody{}
	case KindPolicy:
		body = &PolicyBody{}
	case KindException:
		body = &ExceptionBody{}
	case KindApp:
		body = &AppBody{}
	case KindEngine:
		body = &EngineBody{}
	case KindSettings:
		body = &SettingsBody{}
	case KindExpectation:
		body = &ExpectationBody{}
	default:
		return nil, fmt.Errorf("bug: objects of the kind %q have no body of their own", o.Kind)
	}
	if err := json.Unmarshal(o.Body, body); err != nil {
		return nil, fmt.Errorf("the %s %q cannot be read any more: %w", o.Kind, o.Name, err)
	}
	return body, nil
}

// Encode returns the body as it is kept: references by their ids alone.
func Encode(body Body) ([]byte, error) {
	named := map[*Ref]string{}
	body.Refs(func(_ string, _ Kind, ref *Ref) {
		named[ref], ref.Name = ref.Name, ""
	})
	text, err := json.Marshal(body)
	for ref, name := range named {
		ref.Name = name
	}
	return text, err
}

func visitAll(field string, kind Kind, refs []Ref, visit func(string, Kind, *Ref)) {
	for i := range refs {
		visit(fmt.Sprintf("%s[%d]", field, i), kind, &refs[i])
	}
}

// unique drops references that are there twice.
func unique(refs []Ref) []Ref {
	seen := map[uuid.UUID]bool{}
	kept := []Ref{}
	for _, ref := range refs {
		if !seen[ref.ID] {
			seen[ref.ID] = true
			kept = append(kept, ref)
		}
	}
	return kept
}
