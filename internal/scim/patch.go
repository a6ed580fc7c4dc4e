package scim

import (
	"net/http"
	"reflect"
	"strings"

	"github.com/elimity-com/scim"
	scimerrors "github.com/elimity-com/scim/errors"
	"github.com/elimity-com/scim/filter"
	"github.com/elimity-com/scim/schema"
	parser "github.com/scim2/filter-parser/v2"
)

// patch carries out one operation of a PATCH (RFC 7644, section 3.5.2) on the attributes of a resource.
func patch(attributes map[string]any, op scim.PatchOperation, of schema.Schema) error {
	if op.Path == nil {
		values, ok := op.Value.(map[string]any)
		if !ok {
			return wrong(scimerrors.ScimTypeInvalidValue, "Without a path, the value is an object of attributes.")
		}
		for name, value := range values {
			path, err := parser.ParsePath([]byte(name))
			if err != nil {
				return wrong(scimerrors.ScimTypeInvalidPath, "The attribute "+name+" cannot be read.")
			}
			if err := patchAt(attributes, op.Op, path, value, of); err != nil {
				return err
			}
		}
		return nil
	}
	return patchAt(attributes, op.Op, *op.Path, op.Value, of)
}

func wrong(kind scimerrors.ScimType, detail string) error {
	return scimerrors.ScimError{Status: http.StatusBadRequest, ScimType: kind, Detail: detail}
}

func patchAt(attributes map[string]any, op string, path parser.Path, value any, of schema.Schema) error {
	name, sub := path.AttributePath.AttributeName, path.AttributePath.SubAttributeName()
	if path.SubAttribute != nil {
		sub = *path.SubAttribute
	}
	if uri := path.AttributePath.URI(); uri != "" && !strings.EqualFold(uri, of.ID) { // of an extension
		at, _ := attributes[uri].(map[string]any)
		if at == nil {
			at = map[string]any{}
		}
		attributes[uri] = at
		attributes, of = at, schema.ExtensionEnterpriseUser()
	}
	many := false
	var parts schema.Attributes
	if found, ok := of.Attributes.ContainsAttribute(name); ok {
		name, many, parts = found.Name(), found.MultiValued(), found.SubAttributes()
	}
	if part, ok := parts.ContainsAttribute(sub); ok {
		sub = part.Name()
	}
	switch {
	case path.ValueExpression != nil:
		return patchSome(attributes, op, name, sub, path.ValueExpression, value, parts)
	case sub != "" && !many:
		at, _ := attributes[name].(map[string]any)
		if at == nil {
			at = map[string]any{}
		}
		if op == scim.PatchOperationRemove {
			delete(at, sub)
		} else {
			at[sub] = value
		}
		attributes[name] = at
	case many:
		patchMany(attributes, op, name, value)
	case op == scim.PatchOperationRemove:
		delete(attributes, name)
	default:
		if into, ok := attributes[name].(map[string]any); ok { // parts that are not named stay, also where others are replaced
			if more, ok := value.(map[string]any); ok {
				for key, v := range more {
					into[key] = v
				}
				return nil
			}
		}
		attributes[name] = value
	}
	return nil
}

// patchMany changes an attribute with several values. A removal with values, which some clients send, takes these away and no others.
func patchMany(attributes map[string]any, op, name string, value any) {
	values, is := value.([]any)
	if !is && value != nil {
		values = []any{value}
	}
	had, _ := attributes[name].([]any)
	switch op {
	case scim.PatchOperationReplace:
		attributes[name] = values
	case scim.PatchOperationAdd:
		for _, v := range values {
			if !holds(had, v) {
				had = append(had, v)
			}
		}
		attributes[name] = had
	default:
		kept := []any{}
		for _, v := range had {
			if len(values) > 0 && !holds(values, v) {
				kept = append(kept, v)
			}
		}
		attributes[name] = kept
	}
}

// holds reports whether a value is among some. Values with a part called value are the same where that is.
func holds(values []any, value any) bool {
	is := func(v any) any {
		if parts, ok := v.(map[string]any); ok && parts["value"] != nil {
			return parts["value"]
		}
		return v
	}
	for _, v := range values {
		if reflect.DeepEqual(is(v), is(value)) {
			return true
		}
	}
	return false
}

// patchSome changes those of several values that a filter chooses.
func patchSome(attributes map[string]any, op, name, sub string, chosen parser.Expression, value any, parts schema.Attributes) error {
	had, _ := attributes[name].([]any)
	matches := filter.NewFilterValidator(chosen, schema.Schema{Attributes: parts})
	kept, found := []any{}, false
	for _, v := range had {
		at, ok := v.(map[string]any)
		if !ok || matches.PassesFilter(at) != nil {
			kept = append(kept, v)
			continue
		}
		found = true
		more, whole := value.(map[string]any)
		switch {
		case op == scim.PatchOperationRemove && sub == "":
			continue
		case op == scim.PatchOperationRemove:
			delete(at, sub)
		case sub != "":
			at[sub] = value
		case whole:
			for key, v := range more {
				at[key] = v
			}
		default:
			return wrong(scimerrors.ScimTypeInvalidValue, "The value of a filter's path is an object.")
		}
		kept = append(kept, at)
	}
	if !found && op != scim.PatchOperationRemove {
		return wrong(scimerrors.ScimTypeNoTarget, "No value of "+name+" is chosen by the filter.")
	}
	attributes[name] = kept
	return nil
}
