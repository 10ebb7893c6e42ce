package api

import (
	"time"

	"kanban/internal/wire/config"
)

// ConfigFiles are files of a set-up.
type ConfigFiles struct {
	Files map[string]string `json:"files" doc:"Texts by file name; each is YAML as the schema at /api/v1/config/schema says"`
}

// ConfigApply says which files to take in.
type ConfigApply struct {
	ConfigFiles
	Fingerprint string `json:"fingerprint,omitempty" doc:"Of the comparison that was looked at; refused when it would be another one by now. Whatever is there is taken in when absent"`
}

// ConfigComparison is what files change.
type ConfigComparison struct {
	Changes     []ConfigChange    `json:"changes"`
	Same        int               `json:"same" doc:"Things of the files that are here just so"`
	Only        []ConfigReference `json:"only" doc:"What is here and not in the files, of the kinds that they are about; it stays"`
	Faults      []config.Fault    `json:"faults" doc:"Everything for which the files are refused; nothing is changed while there is any"`
	Applied     bool              `json:"applied" doc:"Whether the changes were made"`
	Fingerprint string            `json:"fingerprint,omitempty" doc:"Tells this comparison from one of other files or of another state here"`
}

// ConfigReference names a thing of a set-up.
type ConfigReference struct {
	Kind config.Kind `json:"kind" enum:"connections,matching,mappings,templates,hiddenSections,issuers,badges,outlines,offers,rules,stagePlans,settings"`
	Name string      `json:"name"`
}

// ConfigChange is what becomes of one thing.
type ConfigChange struct {
	ConfigReference
	What   string               `json:"what" enum:"add,change,wait" doc:"wait: it comes in once a register has what it names"`
	Fields []config.ValueChange `json:"fields" doc:"For change: what of it differs"`
	Notes  []string             `json:"notes" doc:"What goes with it, such as that it arrives off"`
	Waits  string               `json:"waits,omitempty" doc:"For wait: for what"`
}

// ConfigWaiting is something that came in from files and waits for a register.
type ConfigWaiting struct {
	ConfigReference
	For string    `json:"for" doc:"What is not there, or what else is wrong with it"`
	Who string    `json:"who" doc:"Who took it in"`
	At  time.Time `json:"at"`
}

// ReadyRule is a rule by its purpose, which only has to be told what it needs.
type ReadyRule struct {
	Key   string      `json:"key" doc:"By which it is asked for"`
	Title string      `json:"title"`
	About string      `json:"about"`
	Needs []ReadyNeed `json:"needs"`
}

// ReadyNeed is something that a ready rule has to be told.
type ReadyNeed struct {
	Name    string        `json:"name"`
	What    string        `json:"what" enum:"interface,badge,module,address"`
	About   string        `json:"about"`
	Choices []ReadyChoice `json:"choices" doc:"What there is of it; none for an address, which is typed"`
}

// ReadyChoice is one that a need can be met with.
type ReadyChoice struct {
	Value string `json:"value"`
	Title string `json:"title"`
}

// NewReadyRule makes a ready rule.
type NewReadyRule struct {
	Name  string            `json:"name,omitempty" doc:"What the rule is to be called; its title when absent"`
	Needs map[string]string `json:"needs,omitempty" doc:"What it needs, by name; what is not given is taken when there is only one of it"`
}
