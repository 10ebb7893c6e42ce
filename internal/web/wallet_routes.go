package web

import (
	"net/http"

	"kanban/internal/app/holders"
	"kanban/internal/wire/openbadge"
)

// forWallets are the operations that wallets of holders call, and the pages on which holders answer them.
var forWallets = []outsideOperation{
	{
		operation: operation{
			ID: "authorization-server", Method: http.MethodGet, Path: "/.well-known/oauth-authorization-server", Status: http.StatusOK, Tag: "wallets",
			Summary: "Where wallets ask for access (RFC 8414)",
		},
		answers: "application/json",
	},
	{
		operation: operation{
			ID: "wallet-discovery", Method: http.MethodGet, Path: openbadge.APIPath + "/discovery",
			Status: http.StatusOK, Tag: "wallets",
			Summary: "Service description of the Open Badges API (Open Badges 3.0, getServiceDescription)",
		},
		answers: "application/json",
	},
	{
		operation: operation{
			ID: "register-wallet", Method: http.MethodPost, Path: registerPath, Status: http.StatusCreated,
			Tag:     "wallets",
			Summary: "Register a wallet (RFC 7591)",
		},
		answers: "application/json",
		takes:   []string{"application/json"},
		refuses: []int{400, 429},
	},
	{
		operation: operation{
			ID: "wallet-token", Method: http.MethodPost, Path: tokenPath, Status: http.StatusOK, Tag: "wallets",
			Summary: "Exchange a code, or renew a token (RFC 6749, 4.1.3 and 6; RFC 7636; RFC 8628, 3.4)",
		},
		answers: "application/json",
		takes:   []string{"application/x-www-form-urlencoded"},
		refuses: []int{400, 401, 429},
	},
	{
		operation: operation{
			ID: "device-authorization", Method: http.MethodPost, Path: devicePath, Status: http.StatusOK,
			Tag:     "sign-in",
			Summary: "Ask that somebody lets a program in, in a browser (RFC 8628, 3.1); client_id is " + deviceClient,
		},
		answers: "application/json",
		takes:   []string{"application/x-www-form-urlencoded"},
		refuses: []int{400, 429},
	},
	{
		operation: operation{
			ID: "end-wallet-token", Method: http.MethodPost, Path: revokePath, Status: http.StatusOK, Tag: "wallets",
			Summary: "End a token (RFC 7009)",
		},
		takes:   []string{"application/x-www-form-urlencoded"},
		refuses: []int{401, 429},
	},
	{
		operation: operation{
			ID: "wallet-credentials", Method: http.MethodGet, Path: openbadge.APIPath + "/credentials",
			Status: http.StatusOK, Tag: "wallets",
			Summary: "Credentials of the holder (Open Badges 3.0, getCredentials)",
		},
		security: "wallet",
		answers:  "application/json",
		query:    []string{"limit", "offset", "since"},
		refuses:  []int{400, 401, 403},
	},
	{
		operation: operation{
			ID: "wallet-brings", Method: http.MethodPost, Path: openbadge.APIPath + "/credentials",
			Status: http.StatusCreated, Tag: "wallets",
			Summary: "Bring a credential from elsewhere (Open Badges 3.0, upsertCredential); 200 when it replaces one, 304 when it is there",
		},
		security: "wallet",
		answers:  "application/json",
		takes:    []string{"application/json", "text/plain"},
		refuses:  []int{400, 401, 403, 413, 415},
	},
	{
		operation: operation{
			ID: "wallet-profile", Method: http.MethodGet, Path: openbadge.APIPath + "/profile", Status: http.StatusOK,
			Tag:     "wallets",
			Summary: "Profile of the holder (Open Badges 3.0, getProfile)",
		},
		security: "wallet",
		answers:  "application/json",
		refuses:  []int{401, 403},
	},
	{
		operation: operation{
			ID: "wallet-edits-profile", Method: http.MethodPut, Path: openbadge.APIPath + "/profile", Status: http.StatusOK, Tag: "wallets",
			Summary: "Correct the name under which others see the holder (Open Badges 3.0, putProfile)",
		},
		security: "wallet",
		answers:  "application/json",
		takes:    []string{"application/json"},
		refuses:  []int{400, 401, 403},
	},
	{
		operation: operation{
			ID: "ask-holder", Method: http.MethodGet, Path: allowPath, Status: http.StatusOK, Tag: "wallets",
			Summary: "What a wallet asks a holder for, as a page (RFC 6749, 4.1.1)",
		},
		answers: "text/html",
		query:   []string{"response_type", "client_id", "redirect_uri", "scope", "state", "code_challenge", "code_challenge_method"},
		refuses: []int{400},
	},
	{
		operation: operation{
			ID: "answer-wallet", Method: http.MethodPost, Path: allowPath, Status: http.StatusSeeOther, Tag: "wallets",
			Summary: "Let a wallet do something, or refuse",
		},
		answers: "text/html",
		takes:   []string{"application/x-www-form-urlencoded"},
		refuses: []int{400, 422},
	},
	{
		operation: operation{
			ID: "shut-wallet-out", Method: http.MethodPost, Path: holders.Path + "/wallets",
			Status: http.StatusSeeOther, Tag: "wallets",
			Summary: "End what a wallet may do",
		},
		answers: "text/html",
		takes:   []string{"application/x-www-form-urlencoded"},
		refuses: []int{403, 404},
	},
	{
		operation: operation{
			ID: "remove-brought", Method: http.MethodPost, Path: holders.Path + "/brought",
			Status: http.StatusSeeOther, Tag: "wallets",
			Summary: "Remove a credential from elsewhere",
		},
		answers: "text/html",
		takes:   []string{"application/x-www-form-urlencoded"},
		refuses: []int{403, 404},
	},
}
