package platform

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"net/http"
	"slices"

	"kanban/internal/wire/scim"
)

// Token is the bearer token of the platform's SCIM service, in which each section is
// a group that carries the register's identifier.
const Token = "garden-gate"

// places answers SCIM: the groups are the sections, and who is put into one is
// enrolled in it.
func (p *Platform) places(w http.ResponseWriter, r *http.Request) {
	p.scimMu.Lock()
	defer p.scimMu.Unlock()
	users, groups := p.content()
	p.scim.Replace(users, groups)
	p.scim.ServeHTTP(w, r)
	p.takeOver(groups)
}

// content is the school as accounts and groups.
func (p *Platform) content() (users []scim.User, groups []scim.Group) {
	for _, x := range p.school.People() {
		users = append(users, scim.User{
			Schemas: []string{scim.UserSchema}, ID: p.accountOf(x.ID), UserName: x.UserName, ExternalID: x.ID,
			Active: !x.Disabled,
			Name:   scim.Name{GivenName: x.GivenName, FamilyName: x.FamilyName}, Emails: []scim.Email{{
				Value:   x.Email,
				Primary: true,
			}},
			Meta: scim.Meta{ResourceType: "User", Version: `W/"1"`},
		})
	}
	enrolled := p.school.Enrolments()
	for _, x := range p.school.Sections() {
		g := scim.Group{
			Schemas: []string{scim.GroupSchema}, ID: "section-" + x.ID, DisplayName: x.Code,
			ExternalID: x.ID,
		}
		for _, e := range enrolled {
			if e.SectionID == x.ID && !e.Ended {
				g.Members = append(g.Members, scim.Member{Value: p.accountOf(e.PersonID), Type: "User"})
			}
		}
		groups = append(groups, g)
	}
	return users, groups
}

func (p *Platform) accountOf(person string) string {
	if id := p.accounts[person]; id != "" {
		return id
	}
	return "account-" + person
}

// takeOver carries over into the school what a request has changed.
func (p *Platform) takeOver(before []scim.Group) {
	users, groups := p.scim.Content()
	people := map[string]string{}
	for _, x := range p.school.People() {
		people[p.accountOf(x.ID)] = x.ID
	}
	for _, u := range users {
		if people[u.ID] == "" {
			id := p.school.Admit(u.Name.GivenName, u.Name.FamilyName, u.Email())
			p.accounts[id], people[u.ID] = u.ID, id
		}
	}
	in := func(g scim.Group, account string) bool {
		return slices.ContainsFunc(g.Members, func(m scim.Member) bool { return m.Value == account })
	}
	for i, g := range groups {
		if i >= len(before) || before[i].ID != g.ID {
			continue
		}
		for _, m := range g.Members {
			if !in(before[i], m.Value) {
				_ = p.school.Enrol(people[m.Value], g.ExternalID)
			}
		}
		for _, m := range before[i].Members {
			if !in(g, m.Value) {
				_ = p.school.Withdraw(people[m.Value], g.ExternalID)
			}
		}
	}
}

// pickUp fetches a OneRoster delta of enrolments and does what it says.
func (p *Platform) pickUp(w http.ResponseWriter, r *http.Request) {
	req, err := http.NewRequestWithContext(r.Context(), http.MethodGet, r.FormValue("address"), nil)
	if err != nil {
		http.Error(w, "the address is not one", http.StatusUnprocessableEntity)
		return
	}
	req.SetBasicAuth(r.FormValue("key"), r.FormValue("secret"))
	resp, err := p.http.Do(req)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, 8<<20))
	if err != nil || resp.StatusCode != http.StatusOK {
		http.Error(w, "the enrolments could not be fetched: "+resp.Status, http.StatusBadGateway)
		return
	}
	n, err := p.takeDelta(body)
	if err != nil {
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		return
	}
	fmt.Fprintf(w, "%d enrolments taken over\n", n)
}

func (p *Platform) takeDelta(body []byte) (n int, err error) {
	archive, err := zip.NewReader(bytes.NewReader(body), int64(len(body)))
	if err != nil {
		return 0, err
	}
	file, err := archive.Open("enrollments.csv")
	if err != nil {
		return 0, err
	}
	defer file.Close()
	rows, err := csv.NewReader(file).ReadAll()
	if err != nil || len(rows) == 0 {
		return 0, err
	}
	column := func(row []string, name string) string {
		if i := slices.Index(rows[0], name); i >= 0 {
			return row[i]
		}
		return ""
	}
	for _, row := range rows[1:] {
		person, section := column(row, "userSourcedId"), column(row, "classSourcedId")
		if column(row, "status") == "tobedeleted" {
			_ = p.school.Withdraw(person, section) // whoever is not in it is no error
		} else if err := p.school.Enrol(person, section); err != nil {
			return n, err
		}
		n++
	}
	return n, nil
}
