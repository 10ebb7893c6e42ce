// Package scim speaks SCIM 2.0 (RFC 7643, RFC 7644): users and groups.
//
//	client := scim.NewClient(address, token, call.Options{})
//	group, err := client.CreateGroup(ctx, "Orchard care A")
//	err = client.AddMembers(ctx, group.ID, []string{user.ID})
package scim

import "encoding/json"

// Schema and message URNs.
const (
	UserSchema      = "urn:ietf:params:scim:schemas:core:2.0:User"
	GroupSchema     = "urn:ietf:params:scim:schemas:core:2.0:Group"
	ConfigSchema    = "urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"
	ListMessage     = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
	PatchMessage    = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
	ErrorMessage    = "urn:ietf:params:scim:api:messages:2.0:Error"
	ContentType     = "application/scim+json"
	TypeUniqueness  = "uniqueness"
	TypeNoTarget    = "noTarget"
	TypeInvalid     = "invalidValue"
	TypeBadFilter   = "invalidFilter"
	TypeBadSyntax   = "invalidSyntax"
	DefaultPageSize = 200
)

// Meta is metadata the service keeps.
type Meta struct {
	ResourceType string `json:"resourceType,omitempty"`
	Location     string `json:"location,omitempty"`
	Version      string `json:"version,omitempty"`
}

// Name is a user's name.
type Name struct {
	GivenName  string `json:"givenName,omitempty"`
	FamilyName string `json:"familyName,omitempty"`
}

// Email is one address of a user.
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
}

// Email is the primary address, or the first one, or "".
func (u User) Email() string {
	for _, e := range u.Emails {
		if e.Primary {
			return e.Value
		}
	}
	if len(u.Emails) > 0 {
		return u.Emails[0].Value
	}
	return ""
}

// Member is one member of a group.
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

// Patch is a PatchOp message.
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

// ServiceProviderConfig says what the service offers (RFC 7643 5).
type ServiceProviderConfig struct {
	Schemas []string  `json:"schemas"`
	Patch   supported `json:"patch"`
	Bulk    supported `json:"bulk"`
	Filter  struct {
		Supported  bool `json:"supported"`
		MaxResults int  `json:"maxResults"`
	} `json:"filter"`
	ETag supported `json:"etag"`
}
