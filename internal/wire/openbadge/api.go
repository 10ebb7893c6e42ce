package openbadge

import (
	"cmp"
	"encoding/json"
	"net/http"
	"strings"
)

// APIPath is where the Open Badges API begins, below an address (Open Badges 3.0, REST API).
const APIPath = "/ims/ob/v3p0"

// The scopes of the Open Badges API (Open Badges 3.0, REST API).
const (
	scopes           = "https://purl.imsglobal.org/spec/ob/v3p0/scope/"
	ScopeCredentials = scopes + "credential.readonly"
	ScopeUpsert      = scopes + "credential.upsert"
	ScopeProfile     = scopes + "profile.readonly"
	ScopeEditProfile = scopes + "profile.update"
)

// Scopes lists those of the API.
var Scopes = []string{ScopeCredentials, ScopeUpsert, ScopeProfile, ScopeEditProfile}

// KnownScopes gives those of a list with spaces between that are known, each once, in the order of Scopes.
func KnownScopes(list string) (all []string) {
	asked := map[string]bool{}
	for _, x := range strings.Fields(list) {
		asked[x] = true
	}
	for _, x := range Scopes {
		if asked[x] {
			all = append(all, x)
		}
	}
	return all
}

// Credentials is the answer to GET /credentials (GetOpenBadgeCredentialsResponse).
type Credentials struct {
	Credential []json.RawMessage `json:"credential,omitempty"`
	CompactJWS []string          `json:"compactJwsString,omitempty"`
}

// HolderProfile is the profile of a holder (Open Badges 3.0, B.1.7), as far as it is given.
type HolderProfile struct {
	Context []string `json:"@context,omitempty"`
	ID      string   `json:"id"`
	Type    []string `json:"type"`
	Name    string   `json:"name,omitempty"`
	Email   string   `json:"email,omitempty"`
}

// APIStatus is the error body of the API (Imsx_StatusInfo).
type APIStatus struct {
	CodeMajor   string   `json:"imsx_codeMajor"`
	Severity    string   `json:"imsx_severity"`
	Description string   `json:"imsx_description,omitempty"`
	CodeMinor   apiMinor `json:"imsx_codeMinor"`
}

type apiMinor struct {
	Fields []apiMinorField `json:"imsx_codeMinorField"`
}

type apiMinorField struct {
	Name  string `json:"imsx_codeMinorFieldName"`
	Value string `json:"imsx_codeMinorFieldValue"`
}

// minors are the minor codes by the status of the answer (Open Badges 3.0, Imsx_CodeMinorField).
var minors = map[int]string{
	http.StatusBadRequest: "invalid_data", http.StatusUnauthorized: "unauthorizedrequest",
	http.StatusForbidden: "forbidden", http.StatusNotFound: "not_found",
	http.StatusRequestEntityTooLarge: "invalid_data", http.StatusUnsupportedMediaType: "not_acceptable",
	http.StatusTooManyRequests: "server_busy", http.StatusServiceUnavailable: "server_busy",
	http.StatusInternalServerError: "internal_server_error",
}

// NewAPIStatus makes the error body for the status of an answer. A query that cannot be read has a minor code of its
// own, which is given then.
func NewAPIStatus(status int, minor, description string) APIStatus {
	minor = cmp.Or(minor, minors[status], "unknown")
	return APIStatus{
		CodeMajor: "failure", Severity: "error", Description: description,
		CodeMinor: apiMinor{Fields: []apiMinorField{{Name: "TargetEndSystem", Value: minor}}},
	}
}

// Discovery is the service description of the API (Open Badges 3.0, REST API, getServiceDescription): an OpenAPI
// document, as far as a
// wallet needs it to register itself and to ask for access.
type Discovery struct {
	OpenAPI    string             `json:"openapi"`
	Info       DiscoveryInfo      `json:"info"`
	Servers    []DiscoveryServer  `json:"servers"`
	Paths      map[string]any     `json:"paths"`
	Components DiscoveryComponent `json:"components"`
}

// DiscoveryInfo says whose API it is.
type DiscoveryInfo struct {
	Title   string `json:"title"`
	Version string `json:"version"`
	Terms   string `json:"termsOfService"`
	Privacy string `json:"x-imssf-privacyPolicyUrl"`
	Image   string `json:"x-imssf-image,omitempty"`
}

// DiscoveryServer is where the API begins.
type DiscoveryServer struct {
	URL string `json:"url"`
}

// DiscoveryComponent holds how access is asked for.
type DiscoveryComponent struct {
	SecuritySchemes map[string]DiscoveryScheme `json:"securitySchemes"`
}

// SchemeName is what the standard calls its way to ask for access.
const SchemeName = "OAuth2ACG"

// DiscoveryScheme is a way to ask for access.
type DiscoveryScheme struct {
	Type         string                   `json:"type"`
	Description  string                   `json:"description,omitempty"`
	Registration string                   `json:"x-imssf-registrationUrl"`
	Flows        map[string]DiscoveryFlow `json:"flows"`
}

// FlowName is the OpenAPI name of the authorization code flow (RFC 6749, section 4.1).
const FlowName = "authorizationCode"

// DiscoveryFlow says where access is asked for.
type DiscoveryFlow struct {
	Authorization string            `json:"authorizationUrl"`
	Token         string            `json:"tokenUrl"`
	Refresh       string            `json:"refreshUrl"`
	Scopes        map[string]string `json:"scopes"`
}
