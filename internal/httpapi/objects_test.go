package httpapi

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"widelark/internal/revision"
)

func TestStateOf(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	at := func(hours int) *time.Time { t := now.Add(time.Duration(hours) * time.Hour); return &t }
	for want, bodies := range map[string][]revision.ExceptionBody{
		"in force": {{}, {From: at(0)}, {From: at(-1), Until: at(1)}, {Until: at(1)}},
		"later":    {{From: at(1)}, {From: at(1), Until: at(2)}},
		"over":     {{Until: at(0)}, {From: at(-2), Until: at(-1)}},
		"off":      {{Off: true}, {Off: true, Until: at(-1)}},
	} {
		for _, b := range bodies {
			assert.Equal(t, want, stateOf(b, now), "%+v", b)
		}
	}
}

// Whatever kind of object differs between two states, the contract knows it.
func TestEveryKindDiffers(t *testing.T) {
	field, _ := reflect.TypeFor[ObjectDifference]().FieldByName("Kind")
	var known []revision.Kind
	for name := range strings.SplitSeq(field.Tag.Get("enum"), ",") {
		known = append(known, revision.Kind(name))
	}
	assert.ElementsMatch(t, revision.Kinds, known)
}

func TestHolding(t *testing.T) {
	object := func(name, body string) revision.Object {
		return revision.Object{Meta: revision.Meta{Name: name}, Body: []byte(body)}
	}
	all := []revision.Object{object("Ward nurses", `{}`), object("Doctors", `{"description":"All wards"}`), object("Porters", `{}`)}
	names := func(text string) (found []string) {
		for _, o := range holding(all, text) {
			found = append(found, o.Name)
		}
		return found
	}
	assert.Equal(t, []string{"Ward nurses", "Doctors", "Porters"}, names(""))
	assert.Equal(t, []string{"Ward nurses", "Doctors"}, names("WARD"))
	assert.Empty(t, names("surgeons"))
}
