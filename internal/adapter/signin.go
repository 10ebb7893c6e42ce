package adapter

// How an interface is let in at its service.
const (
	ByToken   = "a token"
	BySigning = "signing in"
)

// Fields of kinds that can be granted access by signing in at the service (RFC 6749, 7636, 8414).
var (
	letInBy = Field{
		Name: "letInBy", Title: "Let in by",
		Help:    "A token that the service's administrator made, or signing in at the service: somebody who has an account there grants access",
		Default: ByToken, Options: []string{ByToken, BySigning}, Rare: true,
	}
	signInAt = Field{
		Name: "signInAt", Title: "Authorization server",
		Help:    "For signing in: its address (issuer); where people sign in and tokens are given out is asked there",
		Address: true, SignIn: true, Rare: true,
	}
	authorizeAt = Field{
		Name: "authorizeAt", Title: "Where people sign in",
		Help:    "For signing in at a server that does not say its addresses itself: the authorization address",
		Address: true, SignIn: true, Rare: true,
	}
	tokenAt = Field{
		Name: "tokenAt", Title: "Where tokens are given out",
		Help:    "For signing in at a server that does not say its addresses itself: the token address",
		Address: true, SignIn: true, Rare: true,
	}
	clientID = Field{
		Name: "clientId", Title: "Client id",
		Help: "For signing in: under which the service's administrator has registered Kanban, with the address /granted of this installation to come back to", Rare: true,
	}
	clientSecret = Field{
		Name: "clientSecret", Title: "Client secret",
		Help: "For signing in: given together with the client id; leave empty when there is none", Secret: true, SignIn: true, Rare: true,
	}
	scopes = Field{
		Name: "scopes", Title: "Scopes",
		Help: "For signing in: which rights are asked for, separated by spaces", Rare: true,
	}
)

// SignsIn reports whether an interface with these settings is let in by signing in.
func SignsIn(settings map[string]string) bool { return settings["letInBy"] == BySigning }

// SignsInSomewhere reports whether these settings say where somebody signs in.
func SignsInSomewhere(settings map[string]string) bool {
	return settings["signInAt"]+settings["authorizeAt"]+settings["tokenAt"] != ""
}

// badSignIn says what is missing for signing in, by field; empty when nothing is.
func badSignIn(name string, values map[string]string) string {
	if !SignsIn(values) {
		return ""
	}
	own := values["authorizeAt"] != "" && values["tokenAt"] != ""
	switch {
	case name == "clientId" && values[name] == "":
		return "is missing: the service's administrator registers Kanban and gives it"
	case name == "signInAt" && values[name] == "" && !own:
		return "is missing: enter the authorization server, or both where people sign in and where tokens are given out"
	}
	return ""
}
