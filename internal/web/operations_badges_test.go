package web_test

import (
	"bytes"
	"image"
	"image/png"
	"net/http"
	"strings"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/badge"
	"kanban/internal/core/stage"
	"kanban/internal/store/db"
	"kanban/internal/wire/api"
	"kanban/internal/wire/drawing"
)

// walkBadgeEdits changes a badge and its issuer, withdraws the badge and publishes it again.
func (x *talk) walkBadgeEdits(b api.Badge, i api.Issuer) {
	t := x.site.t
	i.Email, i.Terms = "badges@fernmoor.example", "Ask before you rely on it."
	assert.Equal(t, i.Email, as[api.Issuer](x, x.do(200, "PUT", "/issuers/"+i.ID, i.NewIssuer)).Email)
	withdrawn, published, tags := "withdrawn", "published", []string{"seeds"}
	now := as[api.Badge](x, x.changes("PATCH", "/badges/"+b.ID, api.EditBadge{State: &withdrawn, Tags: &tags}))
	assert.Equal(t, []any{withdrawn, 1, tags}, []any{now.State, now.Version, now.Tags})
	goals := []api.BadgeAlignment{{Name: "Plant care 3", Address: "nowhere"}}
	x.do(422, "PATCH", "/badges/"+b.ID, api.EditBadge{Alignments: &goals})
	now = as[api.Badge](x, x.changes("PATCH", "/badges/"+b.ID, api.EditBadge{State: &published}))
	assert.Equal(t, now, get[api.Badge](x, "/badges/"+b.ID))
	assert.Empty(t, get[api.Page[api.BadgeVersion]](x, "/badges/"+b.ID+"/versions").Items, "nobody holds it yet")
}

func walkBadges(x *talk, h *story) {
	t := x.site.t
	i := made[api.Issuer](x, "/issuers", api.NewIssuer{Name: "Fernmoor Garden School"})
	unused := made[api.Issuer](x, "/issuers", api.NewIssuer{Name: "Fernmor"})
	x.do(204, "DELETE", "/issuers/"+unused.ID, nil)
	assert.Len(t, get[api.Page[api.Issuer]](x, "/issuers").Items, 1)
	b := made[api.Badge](x, "/badges", api.NewBadge{
		IssuerID: i.ID, Name: "Sower", Description: "Sows",
		Criteria: "Sow", Asks: []stage.Criterion{{Kind: stage.Course, CourseID: h.course}},
	})
	x.do(422, "POST", "/badges", api.NewBadge{
		IssuerID: i.ID, Name: "Reaper", Description: "Reaps", Criteria: "Reap",
		Asks: []stage.Criterion{{Kind: stage.Course}},
	})
	_, asks := x.site.ask(http.MethodGet, "/open/badges/"+b.ID+"/criteria", "")
	assert.Contains(t, asks, `"says":"finish the course Propagation"`)
	spare := made[api.Badge](x, "/badges", api.NewBadge{
		IssuerID: i.ID, Name: "Spare", Description: "Sows",
		Criteria: "Sow",
	})
	x.do(204, "DELETE", "/badges/"+spare.ID, nil)
	x.walkBadgeEdits(b, i)
	x.do(422, "POST", "/badges", api.NewBadge{IssuerID: "none", Name: "Sower", Description: "Sows", Criteria: "Sow"})
	assert.Len(t, get[api.Page[api.Badge]](x, "/badges").Items, 1)
	h.badge = b.ID
	x.joined("stu-015") // before there is a rule
}

// walkAwards revokes and suspends awards, awards by hand and from a file, and gives badges and issuers pictures.
func walkAwards(x *talk, h *story) {
	t := x.site.t
	awards := get[api.Page[api.Award]](x, "/awards").Items
	require.Len(t, awards, 1)
	x.do(422, "POST", "/awards/"+awards[0].ID+"/revoke", map[string]any{})
	post[api.Award](x, "/awards/"+awards[0].ID+"/revoke", api.Revocation{Reason: "a mistake"})
	post[api.Award](x, "/awards/"+awards[0].ID+"/restore", nil)
	post[api.Award](x, "/awards/"+awards[0].ID+"/suspend", api.Revocation{Reason: "being looked into"})
	seen := as[api.CheckedBadge](
		x,
		x.do(200, "POST", "/badge-checks?email=x@y.example", awards[0].Address, "Content-Type",
			"application/octet-stream"),
	)
	assert.Equal(t, "suspended", seen.Verdict)
	assert.False(t, *seen.Belongs)
	post[api.Award](x, "/awards/"+awards[0].ID+"/restore", nil)
	x.do(422, "PUT", "/badges/"+h.badge+"/picture", "GIF89a", "Content-Type", "application/octet-stream")
	drawn := as[api.Badge](x, x.do(200, "PUT", "/badges/"+h.badge+"/picture",
		`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"><path d="M1 1h4"/></svg>`, "Content-Type",
		"application/octet-stream"))
	assert.True(t, drawn.OwnPicture)
	noise := image.NewRGBA(image.Rect(0, 0, 640, 640)) // more than a megabyte
	for i := range noise.Pix {
		noise.Pix[i] = byte(i*i>>3 ^ i>>5)
	}
	var large bytes.Buffer
	require.NoError(t, (&png.Encoder{CompressionLevel: png.NoCompression}).Encode(&large, noise))
	require.Greater(t, large.Len(), 1<<20)
	x.do(200, "PUT", "/badges/"+h.badge+"/picture", large.String(), "Content-Type", "application/octet-stream")
	x.do(200, "POST", "/badge-checks", large.String(), "Content-Type", "application/octet-stream")
	assert.Equal(t, 1, get[api.HolderTerms](x, "/holder-terms").Version)
	x.do(422, "PUT", "/holder-terms", api.NewHolderTerms{Text: " "})
	changed := as[api.HolderTerms](x, x.do(200, "PUT", "/holder-terms", api.NewHolderTerms{Text: "Be kind."}))
	assert.Equal(t, 2, changed.Version)
	link := as[api.HolderLink](x, x.do(200, "POST", "/people/"+x.Person("stu-001").ID+"/badges-page", nil))
	assert.Contains(t, link.Address, "/open/holder/link/")
	x.do(409, "POST", "/people/"+x.Person("stu-005").ID+"/badges-page", nil)
	assert.Len(t, get[api.Page[api.BadgeSymbol]](x, "/badge-symbols").Items, len(drawing.Symbols()))
	design := badge.Design{Shape: "shield", Symbol: "leaf", Above: "Fernmoor", Colours: badge.Colours{
		Edge: "#1f4d2b", Body: "#2f6136", Disc: "#fffdf7", Symbol: "#b4451f", Text: "#fffdf7",
	}}
	assert.Contains(t, post[api.DrawnBadge](x, "/badge-drawings", api.BadgeDrawing{Design: design}).SVG, "<svg")
	had := as[api.Badge](x, x.do(200, "PUT", "/badges/"+h.badge+"/drawing", api.BadgeDrawing{Design: design}))
	assert.Equal(t, &design, had.Design)
	assert.Equal(t, design, get[api.BadgeDrawing](x, "/badges/"+h.badge+"/drawing").Design)
	x.do(404, "GET", "/badges/"+db.NewID()+"/drawing", nil)
	design.Symbol = "unicorn"
	x.do(422, "PUT", "/badges/"+h.badge+"/drawing", api.BadgeDrawing{Design: design})
	x.do(204, "DELETE", "/badges/"+h.badge+"/picture", nil)
	assert.True(t, strings.HasSuffix(get[api.Page[api.Badge]](x, "/badges").Items[0].Picture, "/open/pictures/emblem"))
	people := []string{x.Person("stu-003").ID, x.Person("stu-005").ID, awards[0].ID}
	x.do(422, "POST", "/badges/"+h.badge+"/awards", api.NewAwards{People: people})
	given := post[api.Page[api.Awarding]](
		x,
		"/badges/"+h.badge+"/awards",
		api.NewAwards{People: people[:2], Apply: true},
	).Items
	require.Len(t, given, 2)
	assert.Equal(t, []string{"awarded", "refused"}, []string{given[0].Outcome, given[1].Outcome})
	rows := as[api.Page[api.Awarding]](
		x,
		x.do(200, "POST", "/awards/upload?badge="+h.badge, "person\nstu-003\nstu-002\n",
			"Content-Type", "text/csv"),
	).Items
	assert.Equal(t, []string{"held", "to-award"}, []string{rows[0].Outcome, rows[1].Outcome})
	x.do(422, "POST", "/awards/upload", "learner\nx\n", "Content-Type", "text/csv")
	issuer := get[api.Page[api.Issuer]](x, "/issuers").Items[0].ID
	x.do(422, "PUT", "/issuers/"+issuer+"/picture", "GIF89a", "Content-Type", "application/octet-stream")
	assert.NotEmpty(t, as[api.Issuer](x, x.do(200, "PUT", "/issuers/"+issuer+"/picture",
		`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"><path d="M1 1h4"/></svg>`, "Content-Type",
		"application/octet-stream")).Picture)
	x.do(204, "DELETE", "/issuers/"+issuer+"/picture", nil)
	assert.Len(t, get[api.Page[api.IssuerKey]](x, "/issuers/"+issuer+"/keys").Items, 2)
	assert.Len(t, post[api.Page[api.IssuerKey]](x, "/issuers/"+issuer+"/rotate-keys", nil).Items, 4)
	x.do(409, "DELETE", "/badges/"+h.badge, nil)
}
