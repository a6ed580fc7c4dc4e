// Package scim takes people and groups that programs send (RFC 7643, RFC 7644).
//
// From: requests with the token of a directory.
// To: resources of the directory, which package directories makes its next state of.
package scim

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"strings"

	"github.com/elimity-com/scim"
	scimerrors "github.com/elimity-com/scim/errors"
	"github.com/elimity-com/scim/optional"
	"github.com/elimity-com/scim/schema"
	"github.com/google/uuid"
	parser "github.com/scim2/filter-parser/v2"

	"widelark/internal/access"
	"widelark/internal/directories"
	"widelark/internal/revision"
)

// Path is where programs send people.
const Path = "/scim/v2"

// TokenPrefix tells tokens of directories from others.
const TokenPrefix = "wld_"

// Hash returns what is kept of a token.
func Hash(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// Store keeps what programs send.
type Store interface {
	DirectoryByToken(ctx context.Context, hash []byte) (directories.Directory, error) // [directories.ErrToken]
	directories.Resources
}

// Config is what a handler works with.
type Config struct {
	Store   Store
	Changed func(directory uuid.UUID) // called after each change; it must not wait
	Base    string                    // where clients reach [Path], for the locations of resources; without a host where that is not known
	Log     *slog.Logger
}

// MostBody is how many bytes a request may have: a group of some 10,000 people.
const MostBody = 4 << 20

// Handler returns what answers below [Path]. It is safe for concurrent use.
func Handler(c Config) http.Handler {
	of := func(kind directories.ResourceKind) *resources { return &resources{c, kind} }
	server, err := scim.NewServer(&scim.ServerArgs{
		ServiceProviderConfig: &scim.ServiceProviderConfig{
			MaxResults: 1000, SupportFiltering: true, SupportPatch: true,
			AuthenticationSchemes: []scim.AuthenticationScheme{{Type: scim.AuthenticationTypeOauthBearerToken, Name: "Token", Description: "The token of a directory, as a bearer token (RFC 6750)", Primary: true}},
		},
		ResourceTypes: []scim.ResourceType{
			{ID: optional.NewString("User"), Name: "User", Endpoint: "/Users", Schema: schema.CoreUserSchema(), SchemaExtensions: []scim.SchemaExtension{{Schema: schema.ExtensionEnterpriseUser()}}, Handler: of(directories.User)},
			{ID: optional.NewString("Group"), Name: "Group", Endpoint: "/Groups", Schema: schema.CoreGroupSchema(), Handler: of(directories.UserGroup)},
		},
	}, scim.WithBaseURL(c.Base))
	if err != nil {
		panic("bug: " + err.Error()) // it is the same each time
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		token, is := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		var d directories.Directory
		err := directories.ErrToken
		if is && strings.HasPrefix(token, TokenPrefix) {
			d, err = c.Store.DirectoryByToken(r.Context(), Hash(token))
		}
		switch {
		case errors.Is(err, directories.ErrToken):
			w.Header().Set("WWW-Authenticate", `Bearer realm="Wide Lark"`)
			fail(w, http.StatusUnauthorized, "The token of a directory is wanted: its owner makes one.")
			return
		case err != nil:
			c.Log.ErrorContext(r.Context(), "the directory of a token could not be read", "error", err)
			fail(w, http.StatusInternalServerError, "The directory cannot be read now. Try again.")
			return
		}
		r = r.WithContext(context.WithValue(r.Context(), directoryKey{}, d))
		r.Body = http.MaxBytesReader(w, r.Body, MostBody)
		http.StripPrefix("/scim", server).ServeHTTP(w, r)
	})
}

// fail answers with an error (RFC 7644, section 3.12).
func fail(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/scim+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:Error"}, "status": fmt.Sprint(status), "detail": detail})
}

type directoryKey struct{}

// resources are the users or the groups of the directory of each request. It implements [scim.ResourceHandler].
type resources struct {
	Config
	kind directories.ResourceKind
}

func (h *resources) directory(r *http.Request) uuid.UUID {
	return r.Context().Value(directoryKey{}).(directories.Directory).ID
}

// told turns errors of ours into those that clients see.
func (h *resources) told(r *http.Request, err error) error {
	var field *revision.FieldError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, revision.ErrNotFound):
		return scimerrors.ScimError{Status: http.StatusNotFound, Detail: "There is no such resource here."}
	case errors.Is(err, directories.ErrTaken):
		return scimerrors.ScimError{Status: http.StatusConflict, ScimType: scimerrors.ScimTypeUniqueness, Detail: "Somebody else has the name."}
	case errors.As(err, &field):
		return scimerrors.ScimError{Status: http.StatusBadRequest, ScimType: scimerrors.ScimTypeInvalidValue, Detail: field.Error()}
	}
	var scimErr scimerrors.ScimError
	if errors.As(err, &scimErr) {
		return scimErr
	}
	h.Log.ErrorContext(r.Context(), "what a program sent could not be kept", "error", err)
	return scimerrors.ScimErrorInternal
}

func resource(kept directories.Resource) (scim.Resource, error) {
	var attributes scim.ResourceAttributes
	if err := json.Unmarshal(kept.Body, &attributes); err != nil {
		return scim.Resource{}, err
	}
	out := scim.Resource{ID: kept.ID.String(), Attributes: attributes, Meta: scim.Meta{Created: &kept.MadeAt, LastModified: &kept.EditedAt}}
	if external, ok := attributes[schema.CommonAttributeExternalID].(string); ok {
		out.ExternalID = optional.NewString(external)
	}
	return out, nil
}

// done answers with a resource that was changed.
func (h *resources) done(r *http.Request, kept directories.Resource, err error) (scim.Resource, error) {
	if err != nil {
		return scim.Resource{}, h.told(r, err)
	}
	h.Changed(h.directory(r))
	out, err := resource(kept)
	return out, h.told(r, err)
}

// change changes a resource that is there.
func (h *resources) change(r *http.Request, id string, change func(was []byte) (scim.ResourceAttributes, error)) (scim.Resource, error) {
	before, err := h.get(r, id)
	if err != nil {
		return scim.Resource{}, h.told(r, err)
	}
	kept, err := h.Store.ChangeResource(r.Context(), h.directory(r), before.ID, func(was []byte) ([]byte, error) {
		attributes, err := change(was)
		if err != nil {
			return nil, err
		}
		return json.Marshal(attributes)
	}, access.Subscription)
	return h.done(r, kept, err)
}

func (h *resources) get(r *http.Request, id string) (directories.Resource, error) {
	parsed, err := uuid.Parse(id)
	if err != nil {
		return directories.Resource{}, revision.ErrNotFound
	}
	kept, err := h.Store.Resource(r.Context(), h.directory(r), parsed)
	if err == nil && kept.Kind != h.kind {
		err = revision.ErrNotFound
	}
	return kept, err
}

// Create implements [scim.ResourceHandler].
func (h *resources) Create(r *http.Request, attributes scim.ResourceAttributes) (scim.Resource, error) {
	body, err := json.Marshal(attributes)
	if err != nil {
		return scim.Resource{}, h.told(r, err)
	}
	kept, err := h.Store.AddResource(r.Context(), h.directory(r), directories.Resource{ID: uuid.New(), Kind: h.kind, Body: body}, access.Subscription)
	return h.done(r, kept, err)
}

// Get implements [scim.ResourceHandler].
func (h *resources) Get(r *http.Request, id string) (scim.Resource, error) {
	kept, err := h.get(r, id)
	if err != nil {
		return scim.Resource{}, h.told(r, err)
	}
	out, err := resource(kept)
	return out, h.told(r, err)
}

// GetAll implements [scim.ResourceHandler].
func (h *resources) GetAll(r *http.Request, params scim.ListRequestParams) (scim.Page, error) {
	all, err := h.Store.Resources(r.Context(), h.directory(r), h.asked(params))
	if err != nil {
		return scim.Page{}, h.told(r, err)
	}
	page := scim.Page{Resources: []scim.Resource{}}
	for _, kept := range all {
		one, err := resource(kept)
		if err != nil {
			return page, h.told(r, err)
		}
		if params.FilterValidator != nil {
			with := map[string]any{schema.CommonAttributeID: one.ID}
			for name, value := range one.Attributes {
				with[name] = value
			}
			if params.FilterValidator.PassesFilter(with) != nil {
				continue
			}
		}
		if page.TotalResults++; page.TotalResults >= params.StartIndex && len(page.Resources) < params.Count {
			page.Resources = append(page.Resources, one)
		}
	}
	return page, nil
}

// asked returns what the store can look up of a filter: clients ask for one user by the name before they send it.
func (h *resources) asked(params scim.ListRequestParams) directories.ResourceQuery {
	of := directories.ResourceQuery{Kind: h.kind}
	if params.FilterValidator == nil {
		return of
	}
	if e, ok := params.FilterValidator.GetFilter().(*parser.AttributeExpression); ok && e.Operator == parser.EQ && e.AttributePath.SubAttribute == nil {
		for _, name := range []string{"userName", "displayName", "externalId"} {
			if value, text := e.CompareValue.(string); text && strings.EqualFold(e.AttributePath.AttributeName, name) {
				of.Attribute, of.Value = name, value
			}
		}
	}
	return of
}

// Replace implements [scim.ResourceHandler].
func (h *resources) Replace(r *http.Request, id string, attributes scim.ResourceAttributes) (scim.Resource, error) {
	return h.change(r, id, func([]byte) (scim.ResourceAttributes, error) { return attributes, nil })
}

// Delete implements [scim.ResourceHandler].
func (h *resources) Delete(r *http.Request, id string) error {
	kept, err := h.get(r, id)
	if err == nil {
		err = h.Store.RemoveResource(r.Context(), h.directory(r), kept.ID, access.Subscription)
	}
	if err == nil {
		h.Changed(h.directory(r))
	}
	return h.told(r, err)
}

// Patch implements [scim.ResourceHandler].
func (h *resources) Patch(r *http.Request, id string, operations []scim.PatchOperation) (scim.Resource, error) {
	return h.change(r, id, func(was []byte) (scim.ResourceAttributes, error) {
		attributes := scim.ResourceAttributes{}
		if err := json.Unmarshal(was, &attributes); err != nil {
			return nil, err
		}
		for _, one := range operations {
			if err := patch(attributes, one, h.schema()); err != nil {
				return nil, err
			}
		}
		whole := maps.Clone(map[string]any(attributes))
		whole["schemas"] = []any{h.schema().ID}
		if _, err := h.schema().Validate(whole); err != nil {
			return nil, *err
		}
		return attributes, nil
	})
}

func (h *resources) schema() schema.Schema {
	if h.kind == directories.User {
		return schema.CoreUserSchema()
	}
	return schema.CoreGroupSchema()
}
