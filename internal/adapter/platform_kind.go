package adapter

// platformKind is a course platform that opens pages here from inside its courses.
var platformKind = Kind{
	Name: KindLTI, Title: "Course platform that opens pages (LTI 1.3)", Short: "course pages",
	About:  "Opens pages from inside courses: teachers see who is missing and why, learners how far they have come.",
	Hears:  []string{"who opened which course page, and when"},
	Given:  "The platform joins by itself from one address (under Connections). Or its administrator makes a tool there by hand, with the addresses that Kanban shows, and gives these values.",
	Rights: "to be opened from courses, with names and addresses of the people who open it",
	Fields: []Field{
		{
			Name: "issuer", Title: "Issuer",
			Help: "What the platform calls itself (issuer, platform id), exactly, for example https://platform.school.example", Required: true,
			Address: true,
		},
		{Name: "clientId", Title: "Client id", Help: "What the platform calls this tool", Required: true},
		{
			Name: "authorizeAddress", Title: "Address for signing in",
			Help: "Where browsers are sent to be told who somebody is (authentication request URL)", Required: true, Address: true,
		},
		{
			Name: "keysAddress", Title: "Address of the platform's keys",
			Help: "Where its public keys can be read (public keyset URL, JWKS)", Required: true, Address: true,
		},
		{
			Name: "tokenAddress", Title: "Token address",
			Help: "Optional: where access tokens are given out (access token URL). It is kept; opening pages needs none", Address: true,
			Rare: true,
		},
	},
	Capabilities: []Capability{PagesIn},
}
