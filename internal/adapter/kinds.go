package adapter

import "slices"

// What services with an interface for accounts, groups or operations ask for about their calls.
var (
	callsAtOnce = Field{
		Name: "atOnce", Title: "Calls at once", Help: "How many calls the service gets at a time", Default: "4",
		Number: true, Rare: true,
	}
	callsPerMinute = Field{
		Name: "perMinute", Title: "Calls a minute", Help: "Optional: how many calls the service gets in a minute",
		Number: true, Rare: true,
	}
	mayBeLate = Field{
		Name: "late", Title: "May be late by",
		Help: "How many seconds the service may take until it shows what it has carried out; it is looked at again for as long", Default: "10", Number: true, Rare: true,
	}
)

// What both kinds of register ask for about reads that would lose too much.
var (
	guardShare = Field{
		Name: "guardShare", Title: "Stop above % lost",
		Help: "A read that would take away more than this share of the people, of the enrolments, or of the places in a section waits for a person", Default: "50", Number: true, Rare: true,
	}
	guardNumber = Field{
		Name: "guardNumber", Title: "Stop above number lost",
		Help: "Optional: the same, as a number of people, enrolments or places", Number: true, Rare: true,
	}
)

// What both kinds of register ask for about what their end dates mean.
var (
	enrolmentEnd = Field{
		Name: "enrolmentEnd", Title: "An enrolment's end date is",
		Help: "Whether somebody still belongs to the section on the end date of the enrolment", Default: LastDay,
		Options: []string{LastDay, DayAfter}, Rare: true,
	}
	sessionEnd = Field{
		Name: "sessionEnd", Title: "A term's end date is",
		Help: "Whether the end date of a term is its last day or the first day after it", Default: DayAfter,
		Options: []string{DayAfter, LastDay}, Rare: true,
	}
)

// Where the pages are that people open at the other side.
var (
	classPage = Field{
		Name: "classPage", Title: "Page of a class",
		Help: "Optional: the address of a class's own page there, with {id} where its id goes, for example https://platform.example/courses/{id}. {code} and {name} work too", Template: true, Rare: true,
	}
	personPage = Field{
		Name: "personPage", Title: "Page of a person",
		Help: "Optional: the address of a person's own page there, with {id} where their id goes, for example https://platform.example/people/{id}. {identifier}, {email} and {userName} work too", Template: true, Rare: true,
	}
	deliveryPage = Field{
		Name: "deliveryPage", Title: "Page of a delivery",
		Help: "Optional: the address of the page there that shows what became of one call, with {id} where its id goes. {person} works too", Template: true, Rare: true,
	}
)

// Kinds lists them all.
var Kinds = []Kind{
	{
		Name: KindOneRoster, Title: "Register (OneRoster 1.2)", Short: "roster",
		About:  "Reads people, courses, sections and enrolments from a records system.",
		Hears:  []string{"people, their roles and their identifiers", "courses, terms, sections and schools", "who is enrolled in which section, from when and until when"},
		Given:  "The register's administrator makes a client id and a client secret and says where tokens are given out.",
		Rights: "roster.readonly (OneRoster 1.2 security, client credentials)",
		Fields: []Field{
			{
				Name: "address", Title: "Address",
				Help: "Scheme and host of the register, for example https://register.school.example", Required: true,
				Address: true,
			},
			{
				Name: "tokenAddress", Title: "Token address",
				Help:     "Where access tokens are given out, for example https://register.school.example/oauth/token",
				Required: true, Address: true,
			},
			{
				Name: "clientId", Title: "Client id",
				Help: "Given by the register's administrator, with the right roster.readonly", Required: true,
			},
			{
				Name: "clientSecret", Title: "Client secret", Help: "Given together with the client id", Secret: true,
				Required: true,
			},
			until,
			guardShare, guardNumber, enrolmentEnd, sessionEnd,
			{
				Name: "version", Title: "Version of OneRoster",
				Help:    "Which version the register speaks; a test finds out when the other one answers",
				Default: "1.2", Options: []string{"1.2", "1.1"}, Rare: true,
			},
			classPage, personPage,
		},
		Capabilities: []Capability{PeopleIn},
	},
	{
		Name: KindCSV, Title: "Register as files (OneRoster CSV)", Short: "roster files",
		About:  "Reads people, courses, sections and enrolments from CSV packages that are uploaded or put into a folder.",
		Hears:  []string{"people, their roles and their identifiers", "courses, terms, sections and schools", "who is enrolled in which section, from when and until when"},
		Given:  "The register's administrator exports a package of CSV files, or lets it be put into a folder.",
		Rights: "to read the folder, for the user under whom Kanban runs",
		Fields: []Field{
			{
				Name: "folder", Title: "Folder",
				Help: "Optional: a folder on the machine of the service; its newest .zip is read. Leave empty to upload by hand",
			},
			guardShare, guardNumber, enrolmentEnd, sessionEnd,
			{
				Name: "mostUnpacked", Title: "Largest file",
				Help: "How large one unpacked file of a package may be, in MiB", Default: "2048", Number: true,
				Rare: true,
			},
			{
				Name: "mostRows", Title: "Most rows", Help: "How many rows one file of a package may have",
				Default: "20000000", Number: true, Rare: true,
			},
			classPage, personPage,
		},
		Capabilities: []Capability{PeopleIn},
	},
	{
		Name: KindSCIM, Title: "Workspace (SCIM 2.0)", Short: "classes",
		About:  "Puts people into groups of an outside service and makes accounts for them.",
		Hears:  []string{"who has an account and who is in which group"},
		Does:   []string{"make, pair and rename classes (groups)", "put people into classes and take them out", "make accounts for people who have none"},
		Given:  "The service's administrator makes a bearer token and says the SCIM address.",
		Rights: "to read and change users and groups",
		Fields: []Field{
			{
				Name: "address", Title: "SCIM address",
				Help: "The address before /Users, for example https://chat.example/scim/v2", Required: true,
				Address: true,
			},
			{
				Name: "token", Title: "Bearer token",
				Help: "Made by the service's administrator, with the right to manage users and groups", Secret: true,
				Required: true,
			},
			until,
			letInBy, signInAt, authorizeAt, tokenAt, clientID, clientSecret, scopes,
			{
				Name: "notice", Title: "Notice attribute",
				Help: "Optional: the service's own attribute that says whether a newcomer is notified of their account, written urn:…:User:attribute. Kanban sets it to false unless a pairing asks for notices",
			},
			{Name: "classLevel", Title: "Level of a class", Help: classHelp("level"), Rare: true},
			{Name: "classSubject", Title: "Subject of a class", Help: classHelp("subject"), Rare: true},
			{Name: "classStarts", Title: "First day of a class", Help: classHelp("first day"), Rare: true},
			{Name: "classEnds", Title: "Last day of a class", Help: classHelp("last day"), Rare: true},
			{
				Name: "classComplete", Title: "No class without these",
				Help: "Whether the service refuses a class for which one of them is missing", Default: "no",
				Options: []string{"no", "yes"}, Rare: true,
			},
			{
				Name: "emptyOnly", Title: "Only empty classes",
				Help: "Whether only a class without members can be paired, because the service adopts nobody who is in it", Default: "no", Options: []string{"no", "yes"}, Rare: true,
			},
			{
				Name: "mostMembers", Title: "Most members",
				Help: "Optional: how many members a class at the service may have", Number: true, Rare: true,
			},
			callsAtOnce, callsPerMinute, mayBeLate,
			classPage, personPage,
		},
		Capabilities: []Capability{PeopleIn, PeopleOut},
	},
	{
		Name: KindXAPI, Title: "Course platform (xAPI 1.0.3)", Short: "activity",
		About:  "Receives what learners do as xAPI statements.",
		Hears:  []string{"what learners start, answer, pass, complete and score"},
		Given:  "Kanban makes a key and a secret. The platform's administrator enters them, with the endpoint, where statements are sent to.",
		Rights: "none at the platform",
		Fields: []Field{
			{Name: "key", Title: "Key", Help: "The user name under which the platform reports", Made: true},
			{
				Name: "secret", Title: "Secret", Help: "The password under which the platform reports", Secret: true,
				Made: true,
			},
			{
				Name: "homePage", Title: "Home page of accounts",
				Help: "Optional: names of accounts under this home page are the register's identifiers; those under another one are other people. Taken from the first account that fits when left empty", Rare: true,
			},
			{
				Name: "origins", Title: "Origins of scripts",
				Help: "Optional: the origins of pages whose scripts report by themselves, separated by spaces, such as https://platform.example", Rare: true,
			},
			{
				Name: "attachments", Title: "Attachments of statements",
				Help: "Whether the content of attachments is kept, to be given out again with the statements; its hashes are checked either way", Default: DropAttachments, Options: []string{DropAttachments, KeepAttachments}, Rare: true,
			},
			{
				Name: "faulty", Title: "A faulty statement in a batch",
				Help: "Whether it refuses its whole batch, as the standard says, or the others are taken without it; the answer names each faulty one either way", Default: RefuseAll, Options: []string{RefuseAll, TakeOthers}, Rare: true,
			},
			personPage,
		},
		Capabilities: []Capability{LearningEventsIn},
	},
	{
		Name: KindWebhook, Title: "Service that takes signed events", Short: "events out",
		About:  "Sends CloudEvents, signed as Standard Webhooks, to an address.",
		Hears:  []string{"that the service wants no more events"},
		Does:   []string{"send an event when a rule says so"},
		Given:  "The service's administrator says the address and makes a signing secret.",
		Rights: "none: whoever has the secret can send",
		Fields: []Field{
			{
				Name: "address", Title: "Address",
				Help: "Where the service takes events, for example https://news.example/events", Required: true,
				Address: true,
			},
			{
				Name: "secret", Title: "Signing secret",
				Help:   "Starts with whsec_; both sides must have the same one",
				Secret: true, Required: true,
			},
			{
				Name: "earlier", Title: "Earlier signing secret",
				Help:   "Signs too while the service changes to the new one, so that it takes every event meanwhile. Kept by itself when the secret is changed; empty it once the service has the new one",
				Secret: true, Rare: true,
			},
			{
				Name: "redirects", Title: "Redirects",
				Help: "Whether events follow the service to another address; one in a private network only when any is allowed", Default: RefuseRedirects, Options: []string{RefuseRedirects, PublicRedirects, AllRedirects}, Rare: true,
			},
			{
				Name: "atOnce", Title: "Calls at once", Help: "How many events the service gets at a time",
				Default: "8",
				Number:  true, Rare: true,
			},
			{
				Name: "perMinute", Title: "Calls a minute",
				Help:   "Optional: how many events the service gets in a minute; a test lowers it to what the service allows",
				Number: true, Rare: true,
			},
			deliveryPage,
		},
		Capabilities: []Capability{MessagesOut},
	},
	{
		Name: KindHTTP, Title: "Service with an API of its own (HTTP)", Short: "API",
		About:  "Calls operations of the service's API, which are defined on the interface: path, values, and what counts as success.",
		Hears:  []string{"what operations can choose from, and whether they had their effect"},
		Does:   []string{"call operations of its API when a rule says so"},
		Given:  "The service's administrator makes a token and says what stands before the paths.",
		Rights: "whatever the operations need",
		Fields: []Field{
			{
				Name: "address", Title: "Address",
				Help:     "What stands before the paths of the operations, for example https://news.example/api",
				Required: true, Address: true,
			},
			{
				Name: "token", Title: "Token or password", Help: "Leave empty when the service asks for none",
				Secret: true,
			},
			until,
			letInBy, signInAt, authorizeAt, tokenAt, clientID, clientSecret, scopes,
			{
				Name: "userName", Title: "User name",
				Help: "Only when the service wants a user name and a password; else the token is sent as a bearer token",
			},
			{
				Name: "header", Title: "Header for the token",
				Help: "Only when the service wants the token in a header of its own, for example X-Api-Key",
				Rare: true,
			},
			{
				Name: "probe", Title: "Path to test with", Help: "A path that can be read without changing anything",
				Default: "/",
			},
			callsAtOnce, callsPerMinute, mayBeLate,
			deliveryPage,
		},
		Capabilities: []Capability{MessagesOut},
	},
	{
		Name: KindPickup, Title: "Course platform that picks enrolments up (OneRoster delta)", Short: "pickup",
		About:  "Keeps enrolments that rules and offers make, as a OneRoster CSV delta that the platform fetches when it likes.",
		Hears:  []string{"when the platform fetched"},
		Does:   []string{"keep enrolments for the platform to fetch"},
		Given:  "Kanban makes a key and a secret. The platform's administrator enters them where enrolments are fetched from.",
		Rights: "none at the platform",
		Fields: []Field{
			{Name: "key", Title: "Key", Help: "The user name under which the platform fetches", Made: true},
			{
				Name: "secret", Title: "Secret", Help: "The password under which the platform fetches", Secret: true,
				Made: true,
			},
		},
		Capabilities: []Capability{PeopleOut},
	},
	{
		Name: KindEvents, Title: "Service that reports events (CloudEvents)", Short: "events in",
		About:  "Takes signed CloudEvents: purchases, memberships, whatever a service wants to report. Rules react to them.",
		Hears:  []string{"purchases, memberships and whatever else the service reports"},
		Given:  "Kanban makes a signing secret. The service's administrator enters it, with the address, where events are sent to.",
		Rights: "none at the service",
		Fields: []Field{
			{
				Name: "secret", Title: "Signing secret",
				Help:   "The service signs with it, as Standard Webhooks say; both sides must have the same one",
				Secret: true, Made: true,
			},
			{
				Name: "earlier", Title: "Earlier signing secret",
				Help: "Taken too while the service changes to the new one. Kept by itself when the secret is changed; empty it once the service has the new one", Secret: true, Rare: true,
			},
			{
				Name: "person", Title: "Whom it is about",
				Help: "A CEL expression over event that gives an address or the register's identifier; event.data is what the service sent", Default: "event.data.email",
			},
			{
				Name: "starts", Title: "Gives access",
				Help:    "A condition in CEL over event: true when something was bought or a membership began",
				Default: `event.reported in ["purchase.completed", "membership.started", "membership.renewed"]`,
				Rare:    true,
			},
			{
				Name: "ends", Title: "Ends access",
				Help:    "A condition in CEL over event: true when it was cancelled or ended",
				Default: `event.reported in ["purchase.cancelled", "membership.ended"]`, Rare: true,
			},
			{
				Name: "offer", Title: "What was bought",
				Help:    "A CEL expression over event that gives the offer's name at the service",
				Default: "event.data.offer", Rare: true,
			},
			{
				Name: "order", Title: "Order",
				Help:    "A CEL expression over event that is different for each purchase",
				Default: "event.subject", Rare: true,
			},
			{
				Name: "buyerName", Title: "Name of the buyer",
				Help:    "A CEL expression over event, for buyers who are not in the register yet",
				Default: `has(event.data.name) ? event.data.name : ""`, Rare: true,
			},
			{
				Name: "scores", Title: "Scores are final",
				Help:    "A condition in CEL over event: true when scores became final there. The gradebooks of the same connection are then read, and what is final is carried, where the score link runs by itself",
				Default: `event.reported in ["scores.final", "scores.changed"]`, Rare: true,
			},
		},
		Capabilities: []Capability{EventsIn},
	},
	gradebookKind,
	scoreFileKind,
	platformKind,
	{
		Name: KindSMTP, Title: "Mail (SMTP)", Short: "mail",
		About:  "Sends mail.",
		Hears:  []string{"that a mail was refused"},
		Does:   []string{"send mail to learners, teachers and whoever has to know"},
		Given:  "The mail server's administrator gives server, user name and password, and allows the address that mails come from.",
		Rights: "to send mail from that address",
		Fields: []Field{
			{
				Name: "server", Title: "Server", Help: "Host and port, for example mail.school.example:587",
				Required: true,
			},
			{Name: "from", Title: "From", Help: "The address mails come from", Required: true},
			{
				Name: "fromName", Title: "Name of the sender",
				Help: "Optional: the name that people see beside the address, for example Fernmoor Garden School",
			},
			{
				Name: "security", Title: "Security", Help: "How the connection is protected", Default: "starttls",
				Options: []string{"starttls", "tls", "none"},
			},
			{Name: "userName", Title: "User name", Help: "Leave empty when the server asks for none"},
			{Name: "password", Title: "Password", Help: "Leave empty when the server asks for none", Secret: true},
			until,
			{
				Name: "atOnce", Title: "Mails at once", Help: "How many mails the server gets at a time",
				Default: "4",
				Number:  true, Rare: true,
			},
		},
		Capabilities: []Capability{MessagesOut},
	},
}

// classHelp explains the field for an attribute of a class.
func classHelp(what string) string {
	return "Optional: the service's own attribute of a group that says its " + what + ", written urn:…:Group:attribute. A new class is made with it, as the template has it"
}

// Lookup finds a kind by name.
func Lookup(name string) (Kind, bool) {
	i := slices.IndexFunc(Kinds, func(k Kind) bool { return k.Name == name })
	if i < 0 {
		return Kind{}, false
	}
	return Kinds[i], true
}
