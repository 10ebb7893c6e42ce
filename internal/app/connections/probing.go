package connections

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/adapter/gradebooks"
	"kanban/internal/adapter/hooks"
	"kanban/internal/adapter/mails"
	"kanban/internal/adapter/registers"
	"kanban/internal/adapter/services"
	"kanban/internal/adapter/workspaces"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/launchstore"
	"kanban/internal/wire/call"
	"kanban/internal/wire/lti"
	"kanban/internal/wire/oneroster"
)

// patience is how long a test of new values may take; whoever saves them waits for it.
const patience = 30 * time.Second

// stillWorks refuses new values for an interface that works, when a test with them fails.
func (s *Service) stillWorks(ctx context.Context, next connectionstore.Interface, was adapter.Interface,
	kind adapter.Kind,
) error {
	candidate, err := s.Unlock(next)
	if err != nil {
		return err
	}
	differs := false
	for _, f := range kind.Fields {
		if f.Secret && !f.Made && candidate.Secret[f.Name] != was.Secret[f.Name] ||
			(f.Address || credentials[f.Name]) && candidate.Settings[f.Name] != was.Settings[f.Name] {
			differs = true
		}
	}
	var reports []adapter.Report
	if !differs || len(next.Probe) == 0 || json.Unmarshal(next.Probe, &reports) != nil {
		return nil
	}
	worked := map[adapter.Capability]bool{}
	for _, r := range reports {
		worked[r.Capability] = r.State == adapter.Works
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if reports, _, err = s.look(ctx, candidate); err != nil {
		return err
	}
	for _, r := range reports {
		if worked[r.Capability] && r.State != adapter.Works {
			return refusal.Conflict(finding.NotTested,
				"with the new values %s would not work any more, so the ones that work were kept: %s. Correct them, or save them all the same", r.Capability, strings.TrimRight(r.Detail, "."))
		}
	}
	return nil
}

// credentials are fields that are no secret and yet part of a credential.
var credentials = map[string]bool{
	"clientId": true, "userName": true, "server": true, "security": true,
	"header": true, "from": true,
}

// Probe asks the outside system about every capability and keeps the answer.
func (s *Service) Probe(ctx context.Context, id string) ([]adapter.Report, error) {
	c, err := s.Open(ctx, id)
	_, outside := call.As(err)
	var reports []adapter.Report
	var told told
	switch {
	case err == nil:
		reports, told, err = s.look(ctx, c)
	case outside: // nobody has signed in at the service, say
		kind, _ := adapter.Lookup(c.Kind)
		for _, capability := range kind.Capabilities {
			reports = append(reports, adapter.ReportOf(capability, "", err))
		}
		err = nil
	}
	if err != nil {
		return nil, err
	}
	return reports, s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := connectionstore.KeepProbe(ctx, tx, id, reports, s.Clock.Now()); err != nil {
			return err
		}
		if err := keepAllowed(ctx, tx, c, told.perMinute); err != nil {
			return err
		}
		if err := keepVersion(ctx, tx, c, told.version); err != nil {
			return err
		}
		// it answers again
		if !slices.ContainsFunc(reports, func(r adapter.Report) bool { return r.State != adapter.Works }) {
			if _, err := deliverystore.EndFailures(ctx, tx, id, ""); err != nil {
				return err
			}
			if _, err := deliverystore.RequeueAnswered(ctx, tx, id); err != nil {
				return err
			}
		}
		return tx.Announce(ctx, "interface", id)
	})
}

// keepAllowed keeps how many calls a minute a service has said that it allows, where the
// interface would make more.
func keepAllowed(ctx context.Context, tx *db.Tx, c adapter.Interface, perMinute int) error {
	present, err := strconv.Atoi(c.Settings["perMinute"])
	if perMinute == 0 || err == nil && present > 0 && present <= perMinute {
		return nil
	}
	changed, err := connectionstore.KeepSetting(ctx, tx, c.ID, "perMinute", strconv.Itoa(perMinute))
	if err != nil || !changed {
		return err
	}
	return tx.Audit(ctx, "the service", "allowed this many calls a minute", "interface/"+c.ID,
		map[string]int{"perMinute": perMinute})
}

// keepVersion keeps which version of its standard a service speaks, when it is not the one that the
// interface names.
func keepVersion(ctx context.Context, tx *db.Tx, c adapter.Interface, version string) error {
	if version == "" || version == cmp.Or(c.Settings["version"], string(oneroster.V12)) {
		return nil
	}
	changed, err := connectionstore.KeepSetting(ctx, tx, c.ID, "version", version)
	if err != nil || !changed {
		return err
	}
	return tx.Audit(ctx, "the service", "speaks another version", "interface/"+c.ID,
		map[string]string{"version": version})
}

// told is what an outside system says of itself when it is asked.
type told struct {
	perMinute int    // how many calls it allows in a minute, 0 when it does not say
	version   string // of its standard, empty when there is only one
}

// look asks the outside system about every capability.
func (s *Service) look(ctx context.Context, c adapter.Interface) (reports []adapter.Report, says told, err error) {
	// One patient look: a probe that retries for long helps nobody.
	o := s.Call
	o.Retries = 1
	switch c.Kind {
	case adapter.KindOneRoster:
		var version oneroster.Version
		reports, version = registers.New(c, o).Probe(ctx)
		says.version = string(version)
	case adapter.KindSCIM:
		reports = workspaces.New(c, o).Probe(ctx)
	case adapter.KindHTTP:
		reports = services.New(c, o).Probe(ctx)
	case adapter.KindPickup:
		reports = []adapter.Report{{
			Capability: adapter.PeopleOut, State: adapter.Works,
			Detail: "Enrolments are kept for the platform to fetch.",
		}}
	case adapter.KindWebhook:
		reports, says.perMinute = hooks.New(c, o).Probe(ctx, s.Source, time.Now())
	case adapter.KindGradebook:
		reports = gradebooks.New(c, gradebooks.Scopes, o).Probe(ctx)
	case adapter.KindScoreFile:
		reports = []adapter.Report{
			{Capability: adapter.ScoresIn, State: adapter.Works, Detail: "Packages are uploaded by hand."},
			{Capability: adapter.ScoresOut, State: adapter.Works, Detail: "A package is kept for download."},
		}
	case adapter.KindSMTP:
		reports = mails.New(c, 10*time.Second).Probe(ctx)
	case adapter.KindCSV:
		reports = []adapter.Report{folderReport(c.Settings["folder"])}
	case adapter.KindLTI:
		reports, err = s.opensPages(ctx, c, o)
	case adapter.KindXAPI, adapter.KindEvents:
		reports, err = s.Heard(ctx, c.ID, c.Kind)
	}
	return reports, says, err
}

// opensPages reports on a platform that opens pages: its keys must be readable, and it works when a page was opened.
func (s *Service) opensPages(ctx context.Context, c adapter.Interface, o call.Options) ([]adapter.Report, error) {
	o.Timeout = 10 * time.Second
	if err := lti.CheckKeys(ctx, call.New(o), c.Settings["keysAddress"]); err != nil {
		return []adapter.Report{{
			Capability: adapter.PagesIn, State: adapter.Broken, Code: finding.Broken,
			Detail: err.Error(),
		}}, nil
	}
	r := adapter.Report{
		Capability: adapter.PagesIn, State: adapter.Unproven,
		Detail: "Its keys can be read. No page was opened yet: put a link into a course, and open it.",
	}
	opened, err := launchstore.Opened(ctx, s.Store, c.ID)
	if opened {
		r.State, r.Detail = adapter.Works, "Its keys can be read, and pages were opened."
	}
	return []adapter.Report{r}, err
}

// folderReport tells whether the folder of a register of files can be read.
func folderReport(folder string) adapter.Report {
	if folder == "" {
		return adapter.Report{
			Capability: adapter.PeopleIn, State: adapter.Works,
			Detail: "Packages are uploaded by hand.",
		}
	}
	_, err := os.ReadDir(folder)
	if err != nil {
		return adapter.Report{
			Capability: adapter.PeopleIn, State: adapter.Broken, Code: finding.Broken,
			Detail: err.Error(),
		}
	}
	return adapter.Report{Capability: adapter.PeopleIn, State: adapter.Works, Detail: "The folder can be read."}
}

// Heard reports on a course platform, or on a service that reports events, which
// cannot be asked: it works when something has come from it.
func (s *Service) Heard(ctx context.Context, id, kind string) ([]adapter.Report, error) {
	if kind == adapter.KindEvents {
		came, err := connectionstore.EventsFrom(ctx, s.Store, id)
		r := adapter.Report{
			Capability: adapter.EventsIn, State: adapter.Unproven,
			Detail: "No event has come yet. Enter the address and the secret at the service.",
		}
		if came {
			r.State, r.Detail = adapter.Works, "Events have come."
		}
		return []adapter.Report{r}, err
	}
	came, err := connectionstore.StatementsFrom(ctx, s.Store, id)
	r := adapter.Report{
		Capability: adapter.LearningEventsIn, State: adapter.Unproven,
		Detail: "No statement has come yet. Enter the endpoint, the key and the secret at the platform.",
	}
	if came > 0 {
		r.State, r.Detail = adapter.Works, fmt.Sprintf("%d statements have come.", came)
	}
	return []adapter.Report{r}, err
}
