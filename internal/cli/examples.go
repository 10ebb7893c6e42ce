package cli

import (
	"strings"

	"github.com/urfave/cli/v3"
)

// examples are calls of the commands that need no more explanation than that, one a
// line. Those that need more have a description of their own.
const examples = `
kanban badges awards
kanban badges issuers
kanban badges list
kanban connections list
kanban connections pause "Course platform"
kanban connections probe "Course platform"
kanban connections resume "Course platform"
kanban connections show "Course platform"
kanban interfaces kinds
kanban interfaces list
kanban interfaces pause "Chat workspace"
kanban interfaces probe "Chat workspace"
kanban interfaces remove "Chat workspace"
kanban interfaces resume "Chat workspace"
kanban interfaces show "Chat workspace"
kanban courses list
kanban courses show PROP > outline.csv
kanban courses verbs
kanban courses verbs --file verbs.json
kanban deliveries attempts 01a2203f-5c1e-7d02-9b1a-2f6c0d8e4a11
kanban deliveries retry 01a2203f-5c1e-7d02-9b1a-2f6c0d8e4a11
kanban events list --type module.completed
kanban findings reopen KEY
kanban history show
kanban lists change "Harvest committee" --add stu-002 --drop stu-001
kanban lists remove "Harvest committee"
kanban lists show "Harvest committee"
kanban matching show "Chat workspace"
kanban offers accesses --troubled
kanban offers compare --mismatches
kanban offers compare "A place in Propagation"
kanban offers list
kanban offers remove "A place in Propagation"
kanban operations list "Plant list"
kanban operations remove "Plant list" add-label
kanban pairings hold PROP-A
kanban pairings list
kanban pairings list -o csv > pairings.csv
kanban pairings pause PROP-A
kanban pairings preview PROP-A
kanban pairings renew PROP-A
kanban pairings resume PROP-A
kanban pairings show PROP-A
kanban people find marrow
kanban people forget "Nils Nettle" "Chat workspace"
kanban stages list
kanban stages off Propagator
kanban stages on Propagator
kanban stages remove Propagator
kanban rules catch-up "Greet newcomers" --days 30
kanban rules catch-up "Greet newcomers" --days 30 --apply
kanban rules checklist "Greet newcomers"
kanban rules list
kanban rules check-now
kanban rules look-back "Greet newcomers" --days 30
kanban rules names activity.completed
kanban rules off "Greet newcomers"
kanban rules on "Greet newcomers"
kanban rules remove "Greet newcomers"
kanban rules test-recipient
kanban rules test-recipient maud@fernmoor.example
kanban rules versions "Greet newcomers"
kanban runs cancel RUN
kanban runs list
kanban runs resume RUN
kanban runs show RUN
kanban sections sets
kanban sheets list
kanban sign-out
kanban tasks done 01a2203f-5c1e-7d02-9b1a-2f6c0d8e4a11
kanban tasks list
kanban tasks open 01a2203f-5c1e-7d02-9b1a-2f6c0d8e4a11
`

// withExamples gives every command that describes nothing its examples.
func withExamples(c *cli.Command, path string) {
	for _, sub := range c.Commands {
		withExamples(sub, path+" "+sub.Name)
	}
	if c.Description != "" || len(c.Commands) > 0 {
		return
	}
	var lines []string
	for line := range strings.Lines(examples) {
		if line = strings.TrimSuffix(line, "\n"); line == path || strings.HasPrefix(line, path+" ") {
			lines = append(lines, "  "+line)
		}
	}
	c.Description = strings.Join(lines, "\n")
}
