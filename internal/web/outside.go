package web

import (
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/core/permission"
)

// outsideOperation is one that keeps the form that its standard gives it.
type outsideOperation struct {
	operation
	security string   // empty for open to anyone; basic, token or wallet
	answers  string   // the kind of the answer's body, empty for none
	takes    []string // kinds of the request's body
	query    []string
	refuses  []int
}

// outside are the operations beside the API that services and browsers of the world call: they keep the
// form that their standards give them, and are described with the others.
var outside = []outsideOperation{
	{
		operation: operation{
			ID: "xapi-about", Method: http.MethodGet, Path: "/xapi/about", Status: http.StatusOK, Tag: "services",
			Summary: "Which versions of xAPI are spoken (xAPI 1.0.3, Communication 2.8)",
		},
		answers: "application/json", refuses: []int{405},
	},
	{
		operation: operation{
			ID: "xapi-report", Method: http.MethodPost, Path: "/xapi/statements", Status: http.StatusOK,
			Tag:     "services",
			Summary: "Report statements (xAPI 1.0.3, Communication 2.1.2)",
		},
		security: "basic", answers: "application/json", takes: []string{"application/json"},
		refuses: []int{400, 401, 409, 413},
	},
	{
		operation: operation{
			ID: "xapi-keep", Method: http.MethodPut, Path: "/xapi/statements", Status: http.StatusNoContent,
			Tag:     "services",
			Summary: "Report one statement under an id (xAPI 1.0.3, Communication 2.1.1)",
		},
		security: "basic", takes: []string{"application/json"}, query: []string{"statementId"},
		refuses: []int{400, 401, 409, 413},
	},
	{
		operation: operation{
			ID: "xapi-list", Method: http.MethodGet, Path: "/xapi/statements", Status: http.StatusOK, Tag: "services",
			Summary: "Statements as they were reported (xAPI 1.0.3, Communication 2.1.3)",
		},
		security: "basic", answers: "application/json", refuses: []int{400, 401, 404},
		query: []string{
			"statementId", "voidedStatementId", "agent", "verb", "activity", "registration", "related_activities",
			"related_agents", "since", "until", "limit", "format", "attachments", "ascending",
		},
	},
	{
		operation: operation{
			ID: "xapi-more", Method: http.MethodGet, Path: "/xapi/statements/more/{token}", Status: http.StatusOK,
			Tag: "services", Summary: "The next of a list of statements",
		},
		security: "basic", answers: "application/json", refuses: []int{400, 401},
	},
	{
		operation: operation{
			ID: "xapi-read-state", Method: http.MethodGet, Path: "/xapi/activities/state",
			Status: http.StatusOK, Tag: "services",
			Summary: "Read state of an agent in an activity, or list the ids (xAPI 1.0.3, Communication 2.3)",
		},
		security: "basic", answers: "application/json",
		query:   []string{"activityId", "agent", "registration", "stateId", "since"},
		refuses: []int{400, 401, 404},
	},
	{
		operation: operation{
			ID: "xapi-keep-state", Method: http.MethodPut, Path: "/xapi/activities/state",
			Status: http.StatusNoContent, Tag: "services",
			Summary: "Keep state of an agent in an activity (xAPI 1.0.3, Communication 2.3)",
		},
		security: "basic", takes: []string{"application/json", "application/octet-stream"},
		query:   []string{"activityId", "agent", "registration", "stateId"},
		refuses: []int{400, 401, 409, 412, 413},
	},
	{
		operation: operation{
			ID: "xapi-merge-state", Method: http.MethodPost, Path: "/xapi/activities/state",
			Status: http.StatusNoContent, Tag: "services",
			Summary: "Merge state of an agent in an activity with the one that is there (xAPI 1.0.3, Communication 2.3)",
		},
		security: "basic", takes: []string{"application/json", "application/octet-stream"},
		query:   []string{"activityId", "agent", "registration", "stateId"},
		refuses: []int{400, 401, 412, 413},
	},
	{
		operation: operation{
			ID: "xapi-drop-state", Method: http.MethodDelete, Path: "/xapi/activities/state",
			Status: http.StatusNoContent, Tag: "services",
			Summary: "Drop state of an agent in an activity (xAPI 1.0.3, Communication 2.3)",
		},
		security: "basic", query: []string{"activityId", "agent", "registration", "stateId"},
		refuses: []int{400, 401, 412},
	},
	{
		operation: operation{
			ID: "xapi-read-activity-profile", Method: http.MethodGet, Path: "/xapi/activities/profile",
			Status: http.StatusOK, Tag: "services",
			Summary: "Read a profile of an activity, or list the ids (xAPI 1.0.3, Communication 2.7)",
		},
		security: "basic", answers: "application/json", query: []string{"activityId", "profileId", "since"},
		refuses: []int{400, 401, 404},
	},
	{
		operation: operation{
			ID: "xapi-keep-activity-profile", Method: http.MethodPut, Path: "/xapi/activities/profile",
			Status: http.StatusNoContent, Tag: "services",
			Summary: "Keep a profile of an activity (xAPI 1.0.3, Communication 2.7)",
		},
		security: "basic", takes: []string{"application/json", "application/octet-stream"},
		query:   []string{"activityId", "profileId"},
		refuses: []int{400, 401, 409, 412, 413},
	},
	{
		operation: operation{
			ID: "xapi-merge-activity-profile", Method: http.MethodPost, Path: "/xapi/activities/profile",
			Status: http.StatusNoContent, Tag: "services",
			Summary: "Merge a profile of an activity with the one that is there (xAPI 1.0.3, Communication 2.7)",
		},
		security: "basic", takes: []string{"application/json", "application/octet-stream"},
		query:   []string{"activityId", "profileId"},
		refuses: []int{400, 401, 412, 413},
	},
	{
		operation: operation{
			ID: "xapi-drop-activity-profile", Method: http.MethodDelete, Path: "/xapi/activities/profile",
			Status: http.StatusNoContent, Tag: "services",
			Summary: "Drop a profile of an activity (xAPI 1.0.3, Communication 2.7)",
		},
		security: "basic", query: []string{"activityId", "profileId"},
		refuses: []int{400, 401, 412},
	},
	{
		operation: operation{
			ID: "xapi-read-agent-profile", Method: http.MethodGet, Path: "/xapi/agents/profile",
			Status: http.StatusOK, Tag: "services",
			Summary: "Read a profile of an agent, or list the ids (xAPI 1.0.3, Communication 2.6)",
		},
		security: "basic", answers: "application/json", query: []string{"agent", "profileId", "since"},
		refuses: []int{400, 401, 404},
	},
	{
		operation: operation{
			ID: "xapi-keep-agent-profile", Method: http.MethodPut, Path: "/xapi/agents/profile",
			Status: http.StatusNoContent, Tag: "services",
			Summary: "Keep a profile of an agent (xAPI 1.0.3, Communication 2.6)",
		},
		security: "basic", takes: []string{"application/json", "application/octet-stream"},
		query:   []string{"agent", "profileId"},
		refuses: []int{400, 401, 409, 412, 413},
	},
	{
		operation: operation{
			ID: "xapi-merge-agent-profile", Method: http.MethodPost, Path: "/xapi/agents/profile",
			Status: http.StatusNoContent, Tag: "services",
			Summary: "Merge a profile of an agent with the one that is there (xAPI 1.0.3, Communication 2.6)",
		},
		security: "basic", takes: []string{"application/json", "application/octet-stream"},
		query:   []string{"agent", "profileId"},
		refuses: []int{400, 401, 412, 413},
	},
	{
		operation: operation{
			ID: "xapi-drop-agent-profile", Method: http.MethodDelete, Path: "/xapi/agents/profile",
			Status: http.StatusNoContent, Tag: "services",
			Summary: "Drop a profile of an agent (xAPI 1.0.3, Communication 2.6)",
		},
		security: "basic", query: []string{"agent", "profileId"},
		refuses: []int{400, 401, 412},
	},
	{
		operation: operation{
			ID: "xapi-activity", Method: http.MethodGet, Path: "/xapi/activities", Status: http.StatusOK,
			Tag:     "services",
			Summary: "What is known of an activity (xAPI 1.0.3, Communication 2.5)",
		},
		security: "basic", answers: "application/json", query: []string{"activityId"}, refuses: []int{400, 401},
	},
	{
		operation: operation{
			ID: "xapi-agent", Method: http.MethodGet, Path: "/xapi/agents", Status: http.StatusOK, Tag: "services",
			Summary: "What is known of an agent (xAPI 1.0.3, Communication 2.4)",
		},
		security: "basic", answers: "application/json", query: []string{"agent"}, refuses: []int{400, 401},
	},
	{
		operation: operation{
			ID: "report-events", Method: http.MethodPost, Path: "/reported/{id}", Status: http.StatusNoContent,
			Tag: "services", Summary: "Report CloudEvents, signed; a batch is answered with 200 and what became of each",
		},
		takes:   []string{"application/cloudevents+json", "application/cloudevents-batch+json", "application/json"},
		refuses: []int{400, 401, 404, 413, 415},
	},
	{
		operation: operation{
			ID: "allow-reports", Method: http.MethodOptions, Path: "/reported/{id}", Status: http.StatusOK,
			Tag: "services", Summary: "The handshake before events are sent (CloudEvents, HTTP webhooks, section 4)",
		},
		refuses: []int{404},
	},
	{
		operation: operation{
			ID: "fetch-enrolments", Method: http.MethodGet, Path: "/pickup/enrolments.zip", Status: http.StatusOK,
			Tag: "services", Summary: "Enrolments since a time, as a OneRoster CSV delta",
		},
		security: "basic", answers: "application/zip", query: []string{"since"}, refuses: []int{400, 401},
	},
	{
		operation: operation{
			ID: "open-issuer", Method: http.MethodGet, Path: "/open/issuers/{id}", Status: http.StatusOK, Tag: "open",
			Summary: "An issuer's profile (Open Badges 3.0, B.1.22)",
		},
		answers: "application/json", refuses: []int{404},
	},
	{
		operation: operation{
			ID: "open-keys", Method: http.MethodGet, Path: "/open/issuers/{id}/jwks.json", Status: http.StatusOK, Tag: "open",
			Summary: "An issuer's public keys (RFC 7517)",
		},
		answers: "application/json", refuses: []int{404},
	},
	{
		operation: operation{
			ID: "open-key", Method: http.MethodGet, Path: "/open/issuers/{id}/keys/{key}", Status: http.StatusOK, Tag: "open",
			Summary: "One of an issuer's public keys (RFC 7517)",
		},
		answers: "application/json", refuses: []int{404},
	},
	{
		operation: operation{
			ID: "open-status", Method: http.MethodGet, Path: "/open/issuers/{id}/status/{list}", Status: http.StatusOK,
			Tag: "open", Summary: "A signed status list (Bitstring Status List 1.0)",
		},
		answers: "application/vc+jwt", refuses: []int{404},
	},
	{
		operation: operation{
			ID: "open-suspensions", Method: http.MethodGet, Path: "/open/issuers/{id}/suspensions/{list}",
			Status: http.StatusOK, Tag: "open", Summary: "A signed list of what is suspended (Bitstring Status List 1.0)",
		},
		answers: "application/vc+jwt", refuses: []int{404},
	},
	{
		operation: operation{
			ID: "open-did", Method: http.MethodGet, Path: "/open/issuers/{id}/did.json", Status: http.StatusOK, Tag: "open",
			Summary: "An issuer's DID document (did:web), where the service is reached over https",
		},
		answers: "application/json", refuses: []int{404},
	},
	{
		operation: operation{
			ID: "check-page", Method: http.MethodGet, Path: "/open/check", Status: http.StatusOK, Tag: "open",
			Summary: "The page on which anybody can have a badge checked",
		},
		answers: "text/html",
	},
	{
		operation: operation{
			ID: "check-by-page", Method: http.MethodPost, Path: "/open/check", Status: http.StatusOK, Tag: "open",
			Summary: "Check a badge of any issuer, as a page",
		},
		answers: "text/html", takes: []string{"multipart/form-data"}, refuses: []int{413, 429},
	},
	{
		operation: operation{
			ID: "holder-page", Method: http.MethodGet, Path: "/open/holder", Status: http.StatusOK, Tag: "open",
			Summary: "The page of whoever opened a link to their badges",
		},
		answers: "text/html", refuses: []int{404},
	},
	{
		operation: operation{
			ID: "holder-link-page", Method: http.MethodGet, Path: "/open/holder/link/{token}", Status: http.StatusOK, Tag: "open",
			Summary: "The page behind a link to somebody's badges",
		},
		answers: "text/html",
	},
	{
		operation: operation{
			ID: "open-holder-link", Method: http.MethodPost, Path: "/open/holder/link/{token}", Status: http.StatusSeeOther, Tag: "open",
			Summary: "Open the page of one's badges, with the address to which the link was sent",
		},
		answers: "text/html", takes: []string{"application/x-www-form-urlencoded"}, refuses: []int{403, 404, 410, 429},
	},
	{
		operation: operation{
			ID: "ask-for-holder-link", Method: http.MethodPost, Path: "/open/holder/ask", Status: http.StatusOK, Tag: "open",
			Summary: "Ask for a link to the page of one's badges",
		},
		answers: "text/html", takes: []string{"application/x-www-form-urlencoded"}, refuses: []int{429},
	},
	{
		operation: operation{
			ID: "accept-holder-terms", Method: http.MethodPost, Path: "/open/holder/terms", Status: http.StatusSeeOther, Tag: "open",
			Summary: "Accept the terms for holders",
		},
		answers: "text/html", takes: []string{"application/x-www-form-urlencoded"}, refuses: []int{403, 422},
	},
	{
		operation: operation{
			ID: "name-holder", Method: http.MethodPost, Path: "/open/holder/name", Status: http.StatusSeeOther,
			Tag:     "open",
			Summary: "Correct the name under which others see a holder",
		},
		answers: "text/html", takes: []string{"application/x-www-form-urlencoded"}, refuses: []int{403, 422},
	},
	{
		operation: operation{
			ID: "share-award", Method: http.MethodPost, Path: "/open/holder/share", Status: http.StatusSeeOther,
			Tag:     "open",
			Summary: "Let others see whose an award is, or no more",
		},
		answers: "text/html", takes: []string{"application/x-www-form-urlencoded"}, refuses: []int{403, 404, 422},
	},
	{
		operation: operation{
			ID: "leave-holder-page", Method: http.MethodPost, Path: "/open/holder/leave", Status: http.StatusSeeOther,
			Tag:     "open",
			Summary: "Leave the page of one's badges",
		},
		answers: "text/html",
	},
	{
		operation: operation{
			ID: "holder-certificate", Method: http.MethodGet, Path: "/open/holder/awards/{id}/pdf", Status: http.StatusOK, Tag: "open",
			Summary: "An award as a certificate on one page",
		},
		answers: "application/pdf", refuses: []int{403, 404, 409},
	},
	{
		operation: operation{
			ID: "open-badge-criteria", Method: http.MethodGet, Path: "/open/badges/{id}/criteria", Status: http.StatusOK,
			Tag: "open", Summary: "What a badge asks for, as programs read it",
		},
		answers: "application/json", refuses: []int{404},
	},
	{
		operation: operation{
			ID: "open-badge", Method: http.MethodGet, Path: "/open/badges/{id}", Status: http.StatusOK, Tag: "open",
			Summary: "A badge (Open Badges 3.0, B.1.1)",
		},
		answers: "application/json", refuses: []int{404},
	},
	{
		operation: operation{
			ID: "open-picture", Method: http.MethodGet, Path: "/open/pictures/{id}", Status: http.StatusOK, Tag: "open",
			Summary: "The picture of a badge, a PNG or an SVG",
		},
		answers: "image/svg+xml", refuses: []int{404},
	},
	{
		operation: operation{
			ID: "open-award", Method: http.MethodGet, Path: "/open/awards/{id}", Status: http.StatusOK, Tag: "open",
			Summary: "An award: a page, or by Accept the signed credential (Open Badges 3.0, B.1.23)",
		},
		answers: "text/html", query: []string{"address", "form"}, refuses: []int{404, 406},
	},
	{
		operation: operation{
			ID: "unsubscribe-page", Method: http.MethodGet, Path: "/open/unsubscribe/{token}", Status: http.StatusOK,
			Tag: "open", Summary: "The page behind a mail's link for no more mails",
		},
		answers: "text/html", refuses: []int{404},
	},
	{
		operation: operation{
			ID: "unsubscribe", Method: http.MethodPost, Path: "/open/unsubscribe/{token}", Status: http.StatusOK,
			Tag: "open", Summary: "No more mails of a rule, in one step (RFC 8058)",
		},
		answers: "text/html", takes: []string{"application/x-www-form-urlencoded"}, refuses: []int{404},
	},
	{
		operation: operation{
			ID: "get-safety-copy", Act: permission.Look,
			Method: http.MethodGet, Path: "/api/v1/safety-copies/{id}", Status: http.StatusOK,
			Tag: "linked sets", Summary: "The copy of classes that was made before sections were linked",
		},
		security: "token", answers: "application/json", refuses: []int{401, 404},
	},
	{
		operation: operation{
			ID: "get-sheet-file", Act: permission.Look,
			Method: http.MethodGet, Path: "/api/v1/sheets/{file}", Status: http.StatusOK,
			Tag: "sheets", Summary: "A sheet as a file: NAME.csv or NAME.xlsx",
		},
		security: "token", answers: "text/csv", refuses: []int{401, 404},
	},
	{
		operation: operation{
			ID: "get-gradebook-package", Act: permission.CarryScores,
			Method: http.MethodGet, Path: "/api/v1/interfaces/{id}/gradebook.zip",
			Status: http.StatusOK, Tag: "scores",
			Summary: "What waits to be put into a gradebook of files, as a OneRoster CSV package",
		},
		security: "token", answers: "application/zip", refuses: []int{401, 404, 409},
	},
	{
		operation: operation{
			ID: "get-unfinished-work", Act: permission.Look, Of: permission.OfScoreLink,
			Method: http.MethodGet, Path: "/api/v1/score-links/{id}/unfinished.{kind}",
			Status: http.StatusOK, Tag: "scores", Summary: "Missing work and scores that are not final as a file: csv or xlsx",
		},
		security: "token", answers: "text/csv", refuses: []int{401, 404},
	},
	{
		operation: operation{
			ID: "get-stage-map", Act: permission.Look,
			Method: http.MethodGet, Path: "/api/v1/stage-plans/{id}/map.{form}", Status: http.StatusOK,
			Tag: "stages", Summary: "A stage plan as a map with how many stand where, of a section if given: svg, png or pdf",
		},
		security: "token", answers: "image/svg+xml", refuses: []int{401, 404},
	},
	{
		operation: operation{
			ID: "get-report-file", Act: permission.Report,
			Method: http.MethodGet, Path: "/api/v1/reports/{name}/file.{form}", Status: http.StatusOK,
			Tag: "reports", Summary: "A report as a file, narrowed as the report is: csv, xlsx, svg, png or pdf; part says which table or chart",
		},
		security: "token", answers: "text/csv", refuses: []int{401, 404, 422},
	},
	{
		operation: operation{
			ID: "get-holder-map", Method: http.MethodGet, Path: "/open/holder/plans/{id}.svg", Status: http.StatusOK, Tag: "open",
			Summary: "The way of a holder through a stage plan, as a map",
		},
		answers: "image/svg+xml", refuses: []int{403, 404},
	},
	{
		operation: operation{
			ID: "get-outline-table", Act: permission.Look, Of: permission.OfCourse,
			Method: http.MethodGet, Path: "/api/v1/courses/{id}/outline.csv", Status: http.StatusOK,
			Tag: "courses", Summary: "A course's outline as a table",
		},
		security: "token", answers: "text/csv", refuses: []int{401, 404},
	},
}

// describeOutside adds them to the description of the API.
func describeOutside(a huma.API) {
	a.OpenAPI().Components.SecuritySchemes["basic"] = &huma.SecurityScheme{
		Type: "http", Scheme: "basic", Description: "Key and secret of the interface",
	}
	a.OpenAPI().Components.SecuritySchemes["wallet"] = &huma.SecurityScheme{
		Type: "http", Scheme: "bearer", Description: "What a holder lets a wallet do (OAuth 2 with PKCE; see /ims/ob/v3p0/discovery)",
	}
	for _, o := range slices.Concat(outside, forWallets, atProviders, atPlatforms) {
		op := o.huma()
		op.Path = o.Path
		switch o.security {
		case "":
			op.Security = []map[string][]string{}
		case "basic":
			op.Security = []map[string][]string{{"basic": {}}}
		case "wallet":
			op.Security = []map[string][]string{{"wallet": {}}}
		}
		for _, part := range strings.Split(o.Path, "/") {
			if name, ok := strings.CutPrefix(part, "{"); ok {
				op.Parameters = append(op.Parameters, &huma.Param{
					Name: strings.TrimSuffix(name, "}"), In: "path", Required: true,
					Schema: &huma.Schema{Type: "string"},
				})
			}
		}
		for _, name := range o.query {
			op.Parameters = append(op.Parameters,
				&huma.Param{Name: name, In: "query", Schema: &huma.Schema{Type: "string"}})
		}
		if len(o.takes) > 0 {
			op.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{}}
			for _, kind := range o.takes {
				op.RequestBody.Content[kind] = &huma.MediaType{Schema: bodyOf(kind)}
			}
		}
		success := &huma.Response{Description: http.StatusText(o.Status)}
		if o.answers != "" {
			success.Content = map[string]*huma.MediaType{o.answers: {Schema: bodyOf(o.answers)}}
		}
		op.Responses = map[string]*huma.Response{strconv.Itoa(o.Status): success}
		for _, status := range o.refuses {
			op.Responses[strconv.Itoa(status)] = problemResponse(status)
		}
		a.OpenAPI().AddOperation(&op)
	}
}

// bodyOf is the schema of a body of a kind: whatever JSON says, or text, or bytes.
func bodyOf(kind string) *huma.Schema {
	switch {
	case strings.HasSuffix(kind, "json"):
		return &huma.Schema{}
	case kind == "application/zip":
		return &huma.Schema{Type: "string", Format: "binary"}
	}
	return &huma.Schema{Type: "string"}
}

// problemResponse describes the answer of a refusal (RFC 9457).
func problemResponse(status int) *huma.Response {
	return &huma.Response{
		Description: http.StatusText(status),
		Content: map[string]*huma.MediaType{
			"application/problem+json": {Schema: &huma.Schema{Ref: "#/components/schemas/ErrorModel"}},
		},
	}
}

// describeRefusals adds to every operation of the API how it refuses, and that what is unchanged is
// not given again.
func describeRefusals(a huma.API) {
	for path, item := range a.OpenAPI().Paths {
		for _, op := range []*huma.Operation{item.Get, item.Put, item.Patch, item.Delete, item.Post} {
			if op == nil || !strings.HasPrefix(path, "/api/v1/") {
				continue
			}
			statuses := []int{http.StatusUnauthorized}
			if act := op.Extensions[actName]; act != string(permission.Own) && act != string(permission.Anyone) {
				statuses = append(statuses, http.StatusForbidden)
			}
			if op.OperationID != "live" {
				statuses = append(statuses, http.StatusUnprocessableEntity)
			}
			if strings.Contains(path, "{") {
				statuses = append(statuses, http.StatusNotFound)
			}
			if op.Method != http.MethodGet {
				statuses = append(statuses, http.StatusConflict)
			}
			for _, p := range op.Parameters {
				if p.Name == "If-Match" {
					statuses = append(statuses, http.StatusPreconditionFailed)
				}
			}
			for _, status := range statuses {
				if name := strconv.Itoa(status); op.Responses[name] == nil {
					op.Responses[name] = problemResponse(status)
				}
			}
			ok := op.Responses["200"]
			if op.Method == http.MethodGet && ok != nil && ok.Headers["ETag"] != nil {
				op.Responses["304"] = &huma.Response{Description: "It is as it was (If-None-Match)"}
			}
		}
	}
}

// describeStream says of the live news what tells its two forms apart.
func describeStream(a huma.API) {
	one := a.OpenAPI().Paths["/api/v1/live"].Get.Responses["200"].Content["text/event-stream"].Schema.Items
	forms, _ := one.Extensions["oneOf"].([]*huma.Schema)
	for _, form := range forms {
		form.AdditionalProperties = false
		if form.Title == "Event message" {
			delete(form.Properties, "event")
		}
	}
	one.Extensions, one.AnyOf = nil, forms // their forms tell them apart, not a member that both have
}
