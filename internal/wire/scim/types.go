// Package scim speaks SCIM 2.0 (RFC 7643, RFC 7644): users and groups.
//
//	client := scim.NewClient(address, token, call.Options{})
//	group, err := client.CreateGroup(ctx, "Orchard care A", "key", nil)
//	err = client.AddMembers(ctx, group.ID, user.ID)
package scim

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"
)

// Schema and message URNs (RFC 7643 8.7, RFC 7644 8.2), the media type (RFC 7644 8.1), values of
// scimType in errors (RFC 7644 3.12), and how many resources a page has.
const (
	UserSchema      = "urn:ietf:params:scim:schemas:core:2.0:User"
	GroupSchema     = "urn:ietf:params:scim:schemas:core:2.0:Group"
	ConfigSchema    = "urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"
	ListMessage     = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
	PatchMessage    = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
	ErrorMessage    = "urn:ietf:params:scim:api:messages:2.0:Error"
	BulkMessage     = "urn:ietf:params:scim:api:messages:2.0:BulkRequest"
	BulkAnswer      = "urn:ietf:params:scim:api:messages:2.0:BulkResponse"
	ContentType     = "application/scim+json"
	TypeUniqueness  = "uniqueness"
	TypeNoTarget    = "noTarget"
	TypeInvalid     = "invalidValue"
	TypeBadFilter   = "invalidFilter"
	TypeBadSyntax   = "invalidSyntax"
	DefaultPageSize = 200
)

// Meta is metadata the service keeps (RFC 7643 3.1); Version is the entity tag of RFC 7644 3.14.
type Meta struct {
	ResourceType string `json:"resourceType,omitempty"`
	Location     string `json:"location,omitempty"`
	Version      string `json:"version,omitempty"`
}

// Name is a user's name (RFC 7643 4.1.1).
type Name struct {
	GivenName  string `json:"givenName,omitempty"`
	FamilyName string `json:"familyName,omitempty"`
}

// Email is one address of a user (RFC 7643 4.1.2).
type Email struct {
	Value   string `json:"value"`
	Type    string `json:"type,omitempty"`
	Primary bool   `json:"primary,omitempty"`
}

// User is a user resource (RFC 7643 4.1).
type User struct {
	Schemas    []string `json:"schemas"`
	ID         string   `json:"id,omitempty"`
	ExternalID string   `json:"externalId,omitempty"`
	UserName   string   `json:"userName"`
	Name       Name     `json:"name,omitzero"`
	Emails     []Email  `json:"emails,omitempty"`
	Active     bool     `json:"active"`
	Meta       Meta     `json:"meta,omitzero"`

	// Extensions are attributes of extension schemas, by schema URN and name
	// (RFC 7643 3.3). They are written, not read.
	Extensions map[string]map[string]any `json:"-"`
}

// MarshalJSON writes the user with its extensions beside the core attributes.
func (u User) MarshalJSON() ([]byte, error) {
	type core User
	u.Schemas = named(u.Schemas, u.Extensions)
	return extended(core(u), u.Extensions)
}

// named adds the schemas of extensions.
func named(schemas []string, extensions map[string]map[string]any) []string {
	return append(slices.Clone(schemas), slices.Sorted(maps.Keys(extensions))...)
}

// extended writes a resource with its extensions beside the core attributes.
func extended(core any, extensions map[string]map[string]any) ([]byte, error) {
	text, err := json.Marshal(core)
	if err != nil || len(extensions) == 0 {
		return text, err
	}
	all := map[string]any{}
	if err := json.Unmarshal(text, &all); err != nil {
		return nil, err
	}
	for urn, attributes := range extensions {
		all[urn] = attributes
	}
	return json.Marshal(all)
}

// Attribute takes an attribute of an extension, written "urn:…:User:attribute"
// (RFC 7644 3.10), apart; ok is false when it is not of that form.
func Attribute(path string) (urn, name string, ok bool) {
	i := strings.LastIndexByte(path, ':')
	if i < 1 || i == len(path)-1 || !strings.HasPrefix(path, "urn:") {
		return "", "", false
	}
	return path[:i], path[i+1:], true
}

// Addresses are all of them, as they are listed.
func (u User) Addresses() []string {
	all := make([]string, len(u.Emails))
	for i, e := range u.Emails {
		all[i] = e.Value
	}
	return all
}

// Email is the work address, which is the one that Client.UpdateUser writes, or else the primary one,
// the first one, or "".
func (u User) Email() string {
	for _, fits := range []func(Email) bool{
		func(e Email) bool { return strings.EqualFold(e.Type, "work") },
		func(e Email) bool { return e.Primary },
		func(Email) bool { return true },
	} {
		if i := slices.IndexFunc(u.Emails, fits); i >= 0 {
			return u.Emails[i].Value
		}
	}
	return ""
}

// Member is one member of a group (RFC 7643 4.2); Value is the id of the user.
type Member struct {
	Value   string `json:"value"`
	Type    string `json:"type,omitempty"`
	Display string `json:"display,omitempty"`
}

// Group is a group resource (RFC 7643 4.2).
type Group struct {
	Schemas     []string `json:"schemas"`
	ID          string   `json:"id,omitempty"`
	ExternalID  string   `json:"externalId,omitempty"`
	DisplayName string   `json:"displayName"`
	Members     []Member `json:"members,omitempty"`
	Meta        Meta     `json:"meta,omitzero"`

	// Extensions are attributes of extension schemas, by schema URN and name
	// (RFC 7643 3.3). They are written, not read.
	Extensions map[string]map[string]any `json:"-"`
}

// MarshalJSON writes the group with its extensions beside the core attributes.
func (g Group) MarshalJSON() ([]byte, error) {
	type core Group
	g.Schemas = named(g.Schemas, g.Extensions)
	return extended(core(g), g.Extensions)
}

// List is a ListResponse (RFC 7644 3.4.2).
type List[T any] struct {
	Schemas      []string `json:"schemas"`
	TotalResults int      `json:"totalResults"`
	StartIndex   int      `json:"startIndex"`
	ItemsPerPage int      `json:"itemsPerPage"`
	Resources    []T      `json:"Resources"`
}

// Operation is one PATCH operation (RFC 7644 3.5.2).
type Operation struct {
	Op    string          `json:"op"`
	Path  string          `json:"path,omitempty"`
	Value json.RawMessage `json:"value,omitempty"`
}

// Patch is a PatchOp message (RFC 7644 3.5.2).
type Patch struct {
	Schemas    []string    `json:"schemas"`
	Operations []Operation `json:"Operations"`
}

// Error is an error body (RFC 7644 3.12). Status is a string there.
type Error struct {
	Schemas  []string `json:"schemas"`
	Status   string   `json:"status"`
	ScimType string   `json:"scimType,omitempty"`
	Detail   string   `json:"detail,omitempty"`
}

type supported struct {
	Supported bool `json:"supported"`
}

// BulkOperation is one operation of a bulk request or its answer (RFC 7644 3.7).
type BulkOperation struct {
	Method   string          `json:"method"`
	BulkID   string          `json:"bulkId,omitempty"`
	Path     string          `json:"path,omitempty"`
	Location string          `json:"location,omitempty"`
	Data     json.RawMessage `json:"data,omitempty"`
	Status   string          `json:"status,omitempty"`
	Response json.RawMessage `json:"response,omitempty"`
}

// Bulk is a BulkRequest or a BulkResponse (RFC 7644 3.7).
type Bulk struct {
	Schemas    []string        `json:"schemas"`
	Operations []BulkOperation `json:"Operations"`
}

// Schema is one entry of /Schemas, as far as it is looked at (RFC 7643 7).
type Schema struct {
	ID         string            `json:"id"`
	Name       string            `json:"name"`
	Attributes []SchemaAttribute `json:"attributes"`
}

// SchemaAttribute is one attribute of a schema (RFC 7643 7).
type SchemaAttribute struct {
	Name          string            `json:"name"`
	Mutability    string            `json:"mutability"` // readOnly, readWrite, immutable or writeOnly
	SubAttributes []SchemaAttribute `json:"subAttributes"`
}

// Writable reports whether a service's schemas let an attribute of a resource be changed after it was
// made, such as "name.givenName". A service that says nothing of the attribute lets it be tried.
func Writable(schemas []Schema, urn, path string) bool {
	for _, s := range schemas {
		if !strings.EqualFold(s.ID, urn) {
			continue
		}
		all := s.Attributes
		for _, name := range strings.Split(path, ".") {
			i := slices.IndexFunc(all, func(a SchemaAttribute) bool { return strings.EqualFold(a.Name, name) })
			if i < 0 {
				return true
			}
			if m := all[i].Mutability; strings.EqualFold(m, "readOnly") || strings.EqualFold(m, "immutable") {
				return false
			}
			all = all[i].SubAttributes
		}
	}
	return true
}

// ServiceProviderConfig says what the service offers (RFC 7643 5).
type ServiceProviderConfig struct {
	Schemas []string  `json:"schemas"`
	Patch   supported `json:"patch"`
	Bulk    struct {
		Supported      bool `json:"supported"`
		MaxOperations  int  `json:"maxOperations"`
		MaxPayloadSize int  `json:"maxPayloadSize"` // bytes
	} `json:"bulk"`
	Filter struct {
		Supported  bool `json:"supported"`
		MaxResults int  `json:"maxResults"`
	} `json:"filter"`
	ETag       supported   `json:"etag"`
	Pagination *Pagination `json:"pagination,omitempty"` // nil for by index, as RFC 7644 3.4.2.4 says
}

// Pagination says how lists are given page by page (RFC 9865 section 4).
type Pagination struct {
	Cursor                  bool   `json:"cursor"`
	Index                   bool   `json:"index"`
	DefaultPaginationMethod string `json:"defaultPaginationMethod,omitempty"` // cursor or index
	DefaultPageSize         int    `json:"defaultPageSize,omitempty"`
	MaxPageSize             int    `json:"maxPageSize,omitempty"`
	CursorTimeout           int    `json:"cursorTimeout,omitempty"` // seconds
}

// byCursor reports whether lists are read with cursors: where only those are offered, or both. A
// resource that comes or goes meanwhile moves nothing then.
func (c ServiceProviderConfig) byCursor() bool { return c.Pagination != nil && c.Pagination.Cursor }

// pageSize is how many resources are asked for at a time.
func (c ServiceProviderConfig) pageSize() int {
	size := DefaultPageSize
	if n := c.Filter.MaxResults; n > 0 {
		size = min(size, n)
	}
	if c.Pagination != nil && c.Pagination.MaxPageSize > 0 {
		size = min(size, c.Pagination.MaxPageSize)
	}
	return size
}

// Has reports whether a service's schemas have an attribute, ignoring case (RFC 7643 2.1).
func Has(schemas []Schema, urn, name string) bool {
	for _, s := range schemas {
		if !strings.EqualFold(s.ID, urn) {
			continue
		}
		for _, a := range s.Attributes {
			if strings.EqualFold(a.Name, name) {
				return true
			}
		}
	}
	return false
}
