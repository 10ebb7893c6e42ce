package workspace

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"kanban/internal/wire/scim"
)

func (w *Workspace) createUser(out http.ResponseWriter, r *http.Request) {
	var u scim.User
	var extended map[string]json.RawMessage
	body, err := io.ReadAll(r.Body)
	if err != nil || json.Unmarshal(body, &u) != nil || json.Unmarshal(body, &extended) != nil {
		refuse(out, http.StatusBadRequest, scim.TypeBadSyntax, "The body is not a user.")
		return
	}
	welcome := struct{ SendWelcome bool }{true}
	_ = json.Unmarshal(extended[WelcomeSchema], &welcome)
	switch {
	case u.UserName == "":
		refuse(out, http.StatusBadRequest, scim.TypeInvalid, "userName is required.")
	case !strings.Contains(u.Email(), "@"):
		refuse(out, http.StatusBadRequest, scim.TypeInvalid, "An account needs an e-mail address.")
	case strings.HasSuffix(strings.ToLower(u.Email()), RefusedDomain):
		refuse(out, http.StatusBadRequest, scim.TypeInvalid,
			"Addresses of "+RefusedDomain[1:]+" are no longer accepted here.")
	case slices.ContainsFunc(w.users, func(o scim.User) bool { return strings.EqualFold(o.UserName, u.UserName) }):
		refuse(out, http.StatusConflict, scim.TypeUniqueness, "The user name "+u.UserName+" is taken.")
	default:
		u.ID = w.nextID("u")
		u.Meta = scim.Meta{ResourceType: "User", Version: `W/"1"`}
		w.users = append(w.users, u)
		w.created++
		if welcome.SendWelcome {
			w.told[u.ID] = true
		}
		answer(out, http.StatusCreated, u)
	}
}

func (w *Workspace) patchUser(out http.ResponseWriter, r *http.Request) {
	i := slices.IndexFunc(w.users, func(u scim.User) bool { return u.ID == r.PathValue("id") })
	if i < 0 {
		refuse(out, http.StatusNotFound, "", "No such user.")
		return
	}
	operations, ok := operations(out, r)
	if !ok {
		return
	}
	u := w.users[i]
	if match := r.Header.Get("If-Match"); match != "" && match != u.Meta.Version {
		refuse(out, http.StatusPreconditionFailed, "", "The user has another version by now.")
		return
	}
	for _, o := range operations {
		var err error
		switch o.Path {
		case "name":
			err = json.Unmarshal(o.Value, &u.Name)
		case "name.givenName":
			err = json.Unmarshal(o.Value, &u.Name.GivenName)
		case "name.familyName":
			err = json.Unmarshal(o.Value, &u.Name.FamilyName)
		case "emails":
			var given []scim.Email
			if err = json.Unmarshal(o.Value, &given); strings.EqualFold(o.Op, "add") {
				given = append(slices.Clone(u.Emails), given...)
			}
			u.Emails = given
		case `emails[type eq "work"].value`:
			at := slices.IndexFunc(u.Emails, func(e scim.Email) bool { return e.Type == "work" })
			if at < 0 {
				refuse(out, http.StatusBadRequest, scim.TypeNoTarget, "noTarget: there is no work address.")
				return
			}
			u.Emails = slices.Clone(u.Emails)
			err = json.Unmarshal(o.Value, &u.Emails[at].Value)
		case "active":
			err = json.Unmarshal(o.Value, &u.Active)
		default:
			err = fmt.Errorf("cannot change %q", o.Path)
		}
		if err != nil {
			refuse(out, http.StatusBadRequest, scim.TypeInvalid, err.Error())
			return
		}
	}
	version, _ := strconv.Atoi(strings.Trim(u.Meta.Version, `W/"`))
	u.Meta.Version = fmt.Sprintf(`W/"%d"`, version+1)
	w.users[i] = u
	answer(out, http.StatusOK, u)
}
