package adapter

import "slices"

// Answers to yes-or-no fields.
const (
	Yes = "yes"
	No  = "no"
)

// What a final score is at a gradebook.
const (
	FinalByStatus = "one that is fully graded"
	FinalByDate   = "one that is fully graded, from its date on"
)

// Which flags a gradebook can hold.
const (
	FlagsAll  = "all"
	FlagsTwo  = "exempt and not submitted"
	FlagsNone = "none"
)

func yesOrNo(name, title, help, usual string) Field {
	return Field{Name: name, Title: title, Help: help, Default: usual, Options: []string{Yes, No}, Rare: true}
}

// declared is what every gradebook declares of itself.
var declared = []Field{
	{
		Name: "final", Title: "A final score is",
		Help:    "When a score that was marked here may be carried on; all others are drafts",
		Default: FinalByStatus, Options: []string{FinalByStatus, FinalByDate}, Rare: true,
	},
	{
		Name: "itemPage", Title: "Page of an assignment",
		Help: "Optional: the address at which an assignment is marked there, with {id} where its id goes, " +
			"for example https://platform.example/marking/{id}", Template: true, Rare: true,
	},
	yesOrNo("makes", "Takes new assignments",
		"Whether assignments may be made there, or only scores written to those that it has", Yes),
	yesOrNo("needsDue", "Wants a due date", "Whether an assignment needs a due date there", No),
	yesOrNo("needsPeriod", "Wants a grading period",
		"Whether an assignment's date has to lie in a grading period there", No),
	yesOrNo("needsTerm", "Not before the term", "Whether an assignment's date may not lie before the term", No),
	yesOrNo("needsPoints", "Wants points", "Whether an assignment has to be worth more than zero points there", No),
	yesOrNo("needsCategory", "Wants a category", "Whether an assignment needs a category there", No),
	{
		Name: "opens", Title: "Takes scores from", Help: "Optional: the first day on which scores are taken there",
		Date: true, Rare: true,
	},
	{
		Name: "closes", Title: "Takes scores until", Help: "Optional: the last day on which scores are taken there",
		Date: true, Rare: true,
	},
	{
		Name: "flags", Title: "Can hold flags", Help: "What can be said beside a score there", Default: FlagsAll,
		Options: []string{FlagsAll, FlagsTwo, FlagsNone}, Rare: true,
	},
	yesOrNo("comments", "Can hold comments", "Whether a score can have a comment there", Yes),
	yesOrNo("commentsSeen", "Learners see comments",
		"Whether learners can see comments there; hidden ones are carried nowhere", Yes),
	yesOrNo("resultsForGiven", "Gives a result to all who have it",
		"Whether everybody whom an assignment was given to has a result there, before anything is handed in: whoever has none was not given it", No),
	yesOrNo("texts", "Takes scores in words", "Whether a score may be a word there, such as passed", Yes),
	yesOrNo("overMaximum", "Takes more than the maximum",
		"Whether a score there may be above what the assignment is worth", No),
	{
		Name: "decimals", Title: "Decimals", Help: "How many decimals scores have there", Default: "2",
		Number: true, Rare: true,
	},
	{
		Name: "longestTitle", Title: "Longest title", Help: "Optional: how many letters a title may have there",
		Number: true, Rare: true,
	},
	{
		Name: "longestComment", Title: "Longest comment",
		Help: "Optional: how many letters a comment may have there", Number: true, Rare: true,
	},
	yesOrNo("locks", "Locks what was made from outside",
		"Whether teachers cannot change an assignment there that was made from outside", No),
	{
		Name: "termCategories", Title: "Categories of term grades",
		Help: "Optional: titles of the categories of term and report grades there, with commas between; " +
			"those are never touched", Rare: true,
	},
}

// scoreFileKind is a gradebook that gives and takes files.
var scoreFileKind = Kind{
	Name: KindScoreFile, Title: "Gradebook as files (OneRoster CSV)", Short: "gradebook files",
	About:  "Reads assignments and scores from a CSV package that is uploaded, and writes a package for the gradebook.",
	Hears:  []string{"assignments, their categories, dates and points", "scores, with what is said beside them"},
	Does:   []string{"keep assignments, categories and scores for a package that is downloaded"},
	Given:  "The gradebook's administrator exports a package of CSV files, and imports the one that is made here.",
	Rights: "none at the gradebook",
	Fields: slices.Clone(declared), Capabilities: []Capability{ScoresIn, ScoresOut},
}

// gradebookKind is a gradebook from which scores are carried, or to which.
var gradebookKind = Kind{
	Name: KindGradebook, Title: "Gradebook (OneRoster 1.2)", Short: "gradebook",
	About: "Reads assignments and scores where work is marked, and writes them to the book of record.",
	Hears: []string{"assignments, their categories, dates and points", "scores, with what is said beside them"},
	Does:  []string{"make assignments and categories", "write scores, and read back whether they are there"},
	Given: "The gradebook's administrator makes a client id and a client secret and says where tokens are given out.",
	Rights: "gradebook.readonly to read; gradebook.createput to write; gradebook.delete to make a score blank again " +
		"(OneRoster 1.2 security, client credentials)",
	Fields: slices.Concat([]Field{
		{
			Name: "address", Title: "Address",
			Help:     "Scheme and host of the gradebook, for example https://register.school.example",
			Required: true, Address: true,
		},
		{
			Name: "tokenAddress", Title: "Token address",
			Help:     "Where access tokens are given out, for example https://register.school.example/oauth/token",
			Required: true, Address: true,
		},
		{
			Name: "clientId", Title: "Client id",
			Help: "Given by the gradebook's administrator, with the rights that are needed", Required: true,
		},
		{
			Name: "clientSecret", Title: "Client secret", Help: "Given together with the client id", Secret: true,
			Required: true,
		},
		until,
	}, declared, []Field{
		mayBeLate,
		{
			Name: "version", Title: "Version of OneRoster", Help: "Which version the gradebook speaks",
			Default: "1.2", Options: []string{"1.2", "1.1"}, Rare: true,
		},
	}),
	Capabilities: []Capability{ScoresIn, ScoresOut},
}
