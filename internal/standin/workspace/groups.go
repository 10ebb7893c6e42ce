package workspace

import (
	"encoding/json"
	"io"
	"net/http"
	"slices"
	"strings"

	"kanban/internal/wire/scim"
)

func (w *Workspace) createGroup(out http.ResponseWriter, r *http.Request) {
	var g scim.Group
	var extended map[string]json.RawMessage
	body, err := io.ReadAll(r.Body)
	if err != nil || json.Unmarshal(body, &g) != nil || json.Unmarshal(body, &extended) != nil ||
		strings.TrimSpace(g.DisplayName) == "" {
		refuse(out, http.StatusBadRequest, scim.TypeInvalid, "displayName is required.")
		return
	}
	about := map[string]string{}
	_ = json.Unmarshal(extended[ClassSchema], &about)
	for _, d := range w.demanded {
		if about[d] == "" {
			refuse(out, http.StatusBadRequest, scim.TypeInvalid, "A class needs its "+d+".")
			return
		}
	}
	g.ID = w.nextID("g")
	w.about[g.ID] = about
	w.groups = append(w.groups, g)
	answer(out, http.StatusCreated, g)
}

func (w *Workspace) group(out http.ResponseWriter, r *http.Request) (int, bool) {
	i := slices.IndexFunc(w.groups, func(g scim.Group) bool { return g.ID == r.PathValue("id") })
	if i < 0 {
		refuse(out, http.StatusNotFound, "", "No such group.")
	}
	return i, i >= 0
}

func (w *Workspace) getGroup(out http.ResponseWriter, r *http.Request) {
	if i, ok := w.group(out, r); ok {
		answer(out, http.StatusOK, w.groups[i])
	}
}

func (w *Workspace) deleteGroup(out http.ResponseWriter, r *http.Request) {
	if i, ok := w.group(out, r); ok {
		w.groups = slices.Delete(w.groups, i, i+1)
		out.WriteHeader(http.StatusNoContent)
	}
}

func (w *Workspace) patchGroup(out http.ResponseWriter, r *http.Request) {
	i, ok := w.group(out, r)
	if !ok {
		return
	}
	operations, ok := operations(out, r)
	if !ok {
		return
	}
	g := w.groups[i]
	g.Members = slices.Clone(g.Members)
	for _, o := range operations {
		if id, ok := scim.RemovedMember(o.Path); ok && o.Op == "remove" {
			g.Members = slices.DeleteFunc(g.Members, func(m scim.Member) bool { return m.Value == id })
			continue
		}
		if o.Path == "displayName" && o.Op == "replace" && json.Unmarshal(o.Value, &g.DisplayName) == nil {
			continue
		}
		var add []scim.Member
		if o.Op != "add" || o.Path != "members" || json.Unmarshal(o.Value, &add) != nil {
			refuse(out, http.StatusBadRequest, scim.TypeInvalid, "Only members can be added or removed.")
			return
		}
		for _, m := range add {
			u := slices.IndexFunc(w.users, func(u scim.User) bool { return u.ID == m.Value })
			if u < 0 {
				refuse(out, http.StatusBadRequest, scim.TypeInvalid, "No such user: "+m.Value)
				return
			}
			if w.double || !slices.ContainsFunc(g.Members, func(o scim.Member) bool { return o.Value == m.Value }) {
				g.Members = append(g.Members, scim.Member{
					Value: m.Value, Type: "User",
					Display: w.users[u].Name.GivenName + " " + w.users[u].Name.FamilyName,
				})
			}
		}
	}
	w.groups[i] = g
	out.WriteHeader(http.StatusNoContent)
}
