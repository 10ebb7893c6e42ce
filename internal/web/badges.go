package web

import (
	"cmp"
	"context"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/badges"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/badgestore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
	"kanban/internal/wire/openbadge"
)

type awardsInput struct {
	Paging
	Badge  string `query:"badge" doc:"Id of a badge"`
	Person string `query:"person" doc:"Id of a person"`
}

var (
	listIssuersOp = operation{
		ID: "list-issuers", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/issuers", Status: http.StatusOK, Tag: "badges",
		Summary: "List issuers",
	}
	makeIssuerOp = operation{
		ID: "make-issuer", Act: permission.Badges,
		Method: http.MethodPost, Path: "/issuers", Status: http.StatusCreated, Tag: "badges",
		Summary: "Make an issuer with a signing key of its own",
	}
	editIssuerOp = operation{
		ID: "edit-issuer", Act: permission.Badges,
		Method: http.MethodPut, Path: "/issuers/{id}", Status: http.StatusOK, Tag: "badges",
		Summary: "Change what an issuer says of itself; what was signed before stays as it was",
	}
	getBadgeOp = operation{
		ID: "get-badge", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/badges/{id}", Status: http.StatusOK, Tag: "badges",
		Summary: "Show a badge",
	}
	editBadgeOp = operation{
		ID: "edit-badge", Act: permission.Badges,
		Method: http.MethodPatch, Path: "/badges/{id}", Status: http.StatusOK, Tag: "badges",
		Summary: "Change a badge, publish or withdraw it; whoever holds it keeps it as it was",
	}
	listBadgeVersionsOp = operation{
		ID: "list-badge-versions", Act: permission.Look,
		Method: http.MethodGet, Path: "/badges/{id}/versions", Status: http.StatusOK,
		Tag: "badges", Summary: "List the versions of a badge that were",
	}
	removeIssuerOp = operation{
		ID: "remove-issuer", Act: permission.Badges,
		Method: http.MethodDelete, Path: "/issuers/{id}",
		Status: http.StatusNoContent, Tag: "badges",
		Summary: "Remove an issuer that has no badge",
	}
	removeBadgeOp = operation{
		ID: "remove-badge", Act: permission.Badges,
		Method: http.MethodDelete, Path: "/badges/{id}",
		Status: http.StatusNoContent, Tag: "badges",
		Summary: "Remove a badge that nobody was awarded and that nothing is to award",
	}
	listIssuerKeysOp = operation{
		ID: "list-issuer-keys", Act: permission.Look,
		Method: http.MethodGet, Path: "/issuers/{id}/keys",
		Status: http.StatusOK, Tag: "badges",
		Summary: "List an issuer's keys, those that sign first",
	}
	rotateIssuerKeysOp = operation{
		ID: "rotate-issuer-keys", Act: permission.Connect,
		Method: http.MethodPost, Path: "/issuers/{id}/rotate-keys",
		Status: http.StatusOK, Tag: "badges",
		Summary: "Give an issuer new keys; what the old ones signed keeps verifying",
	}
	listBadgesOp = operation{
		ID: "list-badges", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/badges", Status: http.StatusOK, Tag: "badges",
		Summary: "List badges",
	}
	makeBadgeOp = operation{
		ID: "make-badge", Act: permission.Badges,
		Method: http.MethodPost, Path: "/badges", Status: http.StatusCreated, Tag: "badges",
		Summary: "Make a badge",
	}
	drawBadgeOp = operation{
		ID: "draw-badge", Act: permission.Badges,
		Method: http.MethodPut, Path: "/badges/{id}/drawing", Status: http.StatusOK, Tag: "badges",
		Summary: "Give a badge a picture that is drawn here; awards that were given keep theirs",
	}
	getDrawingOp = operation{
		ID: "get-badge-drawing", Act: permission.Look,
		Method: http.MethodGet, Path: "/badges/{id}/drawing", Status: http.StatusOK, Tag: "badges",
		Summary: "Show how a badge's picture is drawn, or with what its drawing begins: like another one of its issuer",
	}
	previewDrawingOp = operation{
		ID: "preview-badge-drawing", Act: permission.Look,
		Method: http.MethodPost, Path: "/badge-drawings", Status: http.StatusOK, Tag: "badges",
		Summary: "Show a picture of a badge as it would be drawn",
	}
	listSymbolsOp = operation{
		ID: "list-badge-symbols", Act: permission.Look,
		Method: http.MethodGet, Path: "/badge-symbols", Status: http.StatusOK, Tag: "badges",
		Summary: "List the symbols that can stand in the middle of a drawn picture",
	}
	setIssuerPictureOp = operation{
		ID: "set-issuer-picture", Act: permission.Badges,
		Method: http.MethodPut, Path: "/issuers/{id}/picture", Status: http.StatusOK,
		Tag: "badges", Summary: "Give an issuer a picture, a PNG or an SVG", Most: maxBody,
	}
	removeIssuerPictureOp = operation{
		ID: "remove-issuer-picture", Act: permission.Badges,
		Method: http.MethodDelete, Path: "/issuers/{id}/picture",
		Status: http.StatusNoContent, Tag: "badges", Summary: "Take an issuer's picture away",
	}
	listAwardsOp = operation{
		ID: "list-awards", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/awards", Status: http.StatusOK, Tag: "badges",
		Summary: "List awards, the newest first",
	}
	revokeAwardOp = operation{
		ID: "revoke-award", Act: permission.Award, Of: permission.OfAward, Any: true,
		Method: http.MethodPost, Path: "/awards/{id}/revoke",
		Status: http.StatusOK, Tag: "badges",
		Summary: "Revoke an award; whoever checks it sees that",
	}
	suspendAwardOp = operation{
		ID: "suspend-award", Act: permission.Award, Of: permission.OfAward, Any: true,
		Method: http.MethodPost, Path: "/awards/{id}/suspend",
		Status: http.StatusOK, Tag: "badges",
		Summary: "Suspend an award: it does not hold until it is restored, and whoever checks it sees that",
	}
	restoreAwardOp = operation{
		ID: "restore-award", Act: permission.Award, Of: permission.OfAward, Any: true,
		Method: http.MethodPost, Path: "/awards/{id}/restore",
		Status: http.StatusOK, Tag: "badges",
		Summary: "Restore an award: end its suspension, or cancel a revocation that was made by mistake",
	}
	setPictureOp = operation{
		ID: "set-badge-picture", Act: permission.Badges,
		Method: http.MethodPut, Path: "/badges/{id}/picture", Status: http.StatusOK, Tag: "badges",
		Summary: "Give a badge a picture of its own, a PNG or an SVG; awards that were given keep theirs",
		Most:    maxBody,
	}
	removePictureOp = operation{
		ID: "remove-badge-picture", Act: permission.Badges,
		Method: http.MethodDelete, Path: "/badges/{id}/picture",
		Status: http.StatusNoContent, Tag: "badges",
		Summary: "Give a badge the picture that all have",
	}
	awardBadgeOp = operation{
		ID: "award-badge", Act: permission.Award, Of: permission.Listed,
		Method: http.MethodPost, Path: "/badges/{id}/awards", Status: http.StatusOK, Tag: "badges",
		Summary: "Award a badge to people by hand, or only say what would become of them",
	}
	awardFileOp = operation{
		ID: "award-from-file", Act: permission.Award, Of: permission.Listed,
		Method: http.MethodPost, Path: "/awards/upload", Status: http.StatusOK, Tag: "badges",
		Summary: "Award what stands in a CSV file, or only say what would become of each row",
		Most:    maxBody,
	}
	checkBadgeOp = operation{
		ID: "check-badge", Act: permission.Look,
		Method: http.MethodPost, Path: "/badge-checks", Status: http.StatusOK, Tag: "badges",
		Summary: "Check a badge of any issuer: a picture that carries one, a credential, or an address",
		Most:    maxBody,
	}
)

// badges registers the operations about issuers, badges and awards.
func (s *Server) badges(a huma.API) {
	handle(a, listIssuersOp, s.listIssuers)
	handle(a, makeIssuerOp, s.makeIssuer)
	handle(a, editIssuerOp, s.editIssuer)
	handleEmpty(a, removeIssuerOp, s.removeIssuer)
	handleEmpty(a, removeBadgeOp, s.removeBadge)
	handle(a, listBadgesOp, s.listBadges)
	handle(a, makeBadgeOp, s.makeBadge)
	handleTagged(a, getBadgeOp, s.getBadge)
	handleTagged(a, editBadgeOp, s.editBadge)
	handle(a, listBadgeVersionsOp, s.listBadgeVersions)
	handle(a, getDrawingOp, s.getDrawing)
	handle(a, drawBadgeOp, s.drawBadge)
	handle(a, previewDrawingOp, s.previewDrawing)
	handle(a, listSymbolsOp, s.listSymbols)
	handle(a, setIssuerPictureOp, s.setIssuerPicture)
	handleEmpty(a, removeIssuerPictureOp, s.removeIssuerPicture)
	handle(a, listAwardsOp, s.listAwards)
	handle(a, revokeAwardOp, s.revokeAward)
	handle(a, setPictureOp, s.setPicture)
	handleEmpty(a, removePictureOp, s.removePicture)
	handle(a, awardBadgeOp, s.awardBadge)
	handle(a, awardFileOp, s.awardFile)
	handle(a, suspendAwardOp, s.suspendAward)
	handle(a, restoreAwardOp, s.restoreAward)
	handle(a, checkBadgeOp, s.checkBadge)
	handle(a, listIssuerKeysOp, s.listIssuerKeys)
	handle(a, rotateIssuerKeysOp, s.rotateIssuerKeys)
}

func (s *Server) listIssuers(ctx context.Context, _ *struct{}) (api.Page[api.Issuer], error) {
	all, err := s.Badges.Issuers(ctx)
	return api.Page[api.Issuer]{Items: each(all, s.issuer)}, err
}

func (s *Server) makeIssuer(ctx context.Context, in *with[api.NewIssuer]) (api.Issuer, error) {
	i, err := s.Badges.AddIssuer(ctx, auth.Caller(ctx).Name,
		badgestore.Issuer{
			Name: in.Body.Name, URL: in.Body.URL, Email: in.Body.Email,
			Description: in.Body.Description, Terms: in.Body.Terms,
		})
	return s.issuer(i), err
}

func (s *Server) removeIssuer(ctx context.Context, in *byID) error {
	return s.Badges.RemoveIssuer(ctx, auth.Caller(ctx).Name, in.ID)
}

func (s *Server) removeBadge(ctx context.Context, in *byID) error {
	return s.Badges.RemoveBadge(ctx, auth.Caller(ctx).Name, in.ID)
}

func (s *Server) listBadges(ctx context.Context, _ *struct{}) (api.Page[api.Badge], error) {
	all, err := s.Badges.Badges(ctx, reach(ctx))
	return api.Page[api.Badge]{Items: each(all, s.shownBadge)}, err
}

func (s *Server) makeBadge(ctx context.Context, in *with[api.NewBadge]) (api.Badge, error) {
	b, err := s.Badges.AddBadge(ctx, auth.Caller(ctx).Name,
		badgestore.Badge{
			IssuerID: in.Body.IssuerID, Name: in.Body.Name, Description: in.Body.Description,
			Criteria: in.Body.Criteria, Asks: in.Body.Asks, Tags: in.Body.Tags, ValidDays: in.Body.ValidDays,
			State:      in.Body.State,
			Alignments: each(in.Body.Alignments, alignmentOf), LastDay: in.Body.LastDay,
			Renewable: in.Body.Renewable, Level: in.Body.Level,
		})
	return s.shownBadge(badgestore.ListedBadge{Badge: b}), err
}

func alignmentOf(x api.BadgeAlignment) badgestore.Alignment {
	return badgestore.Alignment{
		Name: x.Name, Address: x.Address, Description: x.Description, Framework: x.Framework, Code: x.Code,
	}
}

func alignment(x badgestore.Alignment) api.BadgeAlignment { return api.BadgeAlignment(x) }

func (s *Server) getBadge(ctx context.Context, in *byID) (api.Badge, int, error) {
	b, err := s.Badges.Listed(ctx, in.ID, reach(ctx))
	return s.shownBadge(b), b.Revision, err
}

func (s *Server) editBadge(ctx context.Context, in *edit[api.EditBadge]) (api.Badge, int, error) {
	revision, err := version(in.IfMatch)
	if err != nil {
		return api.Badge{}, 0, err
	}
	x := in.Body
	e := badges.EditBadge{
		Name: x.Name, Description: x.Description, Criteria: x.Criteria, Asks: x.Asks, State: x.State,
		Tags:      x.Tags,
		ValidDays: x.ValidDays, LastDay: x.LastDay, Renewable: x.Renewable, Level: x.Level,
	}
	if x.Alignments != nil {
		list := each(*x.Alignments, alignmentOf)
		e.Alignments = &list
	}
	if _, err := s.Badges.EditBadge(ctx, auth.Caller(ctx).Name, in.ID, revision, e); err != nil {
		return api.Badge{}, 0, err
	}
	return s.getBadge(ctx, &byID{ID: in.ID})
}

func (s *Server) listBadgeVersions(ctx context.Context, in *byID) (api.Page[api.BadgeVersion], error) {
	all, err := s.Badges.Versions(ctx, in.ID)
	return api.Page[api.BadgeVersion]{Items: each(all, func(f badgestore.Former) api.BadgeVersion {
		return api.BadgeVersion{
			Version: f.Version, Name: f.Badge.Name, Description: f.Badge.Description, Criteria: f.Badge.Criteria,
			Asks: f.Badge.Asks,
			Tags: append([]string{}, f.Badge.Tags...), Alignments: each(f.Badge.Alignments, alignment),
			ValidDays: f.Badge.ValidDays, LastDay: f.Badge.LastDay, Level: f.Badge.Level,
			Awards: f.Awards, ChangedBy: f.ChangedBy, ChangedAt: f.ChangedAt,
		}
	})}, err
}

func (s *Server) editIssuer(ctx context.Context, in *withID[api.NewIssuer]) (api.Issuer, error) {
	i, err := s.Badges.EditIssuer(ctx, auth.Caller(ctx).Name, badgestore.Issuer{
		ID: in.ID, Name: in.Body.Name, URL: in.Body.URL, Email: in.Body.Email, Description: in.Body.Description,
		Terms: in.Body.Terms,
	})
	return s.issuer(i), err
}

func (s *Server) listAwards(ctx context.Context, in *awardsInput) (api.Page[api.Award], error) {
	all, err := s.Badges.Awards(ctx, badgestore.AwardFilter{
		BadgeID: in.Badge, PersonID: in.Person, Before: in.Cursor, Limit: in.Limit, Within: reach(ctx),
	})
	return api.Page[api.Award]{
		Items: each(all, s.shownAward),
		Next:  last(all, in.Limit, func(x badgestore.ListedAward) string { return x.ID }),
	}, err
}

func awarder(ctx context.Context) badges.Awarder {
	c := auth.Caller(ctx)
	return badges.Awarder{Name: c.Name, Rights: c.Rights}
}

func (s *Server) revokeAward(ctx context.Context, in *withID[api.Revocation]) (api.Award, error) {
	if err := s.Badges.MayDecide(ctx, awarder(ctx), in.ID); err != nil {
		return api.Award{}, err
	}
	if _, err := s.Badges.Revoke(ctx, auth.Caller(ctx).Name, in.ID, in.Body.Reason); err != nil {
		return api.Award{}, err
	}
	x, err := s.Badges.FindListedAward(ctx, in.ID)
	return s.shownAward(x), err
}

func (s *Server) restoreAward(ctx context.Context, in *byID) (api.Award, error) {
	if err := s.Badges.MayDecide(ctx, awarder(ctx), in.ID); err != nil {
		return api.Award{}, err
	}
	if _, err := s.Badges.Restore(ctx, auth.Caller(ctx).Name, in.ID); err != nil {
		return api.Award{}, err
	}
	x, err := s.Badges.FindListedAward(ctx, in.ID)
	return s.shownAward(x), err
}

func (s *Server) suspendAward(ctx context.Context, in *withID[api.Revocation]) (api.Award, error) {
	if err := s.Badges.MayDecide(ctx, awarder(ctx), in.ID); err != nil {
		return api.Award{}, err
	}
	if _, err := s.Badges.Suspend(ctx, auth.Caller(ctx).Name, in.ID, in.Body.Reason); err != nil {
		return api.Award{}, err
	}
	x, err := s.Badges.FindListedAward(ctx, in.ID)
	return s.shownAward(x), err
}

// pictureFile is a picture.
type pictureFile struct {
	ID      string `path:"id" doc:"The badge's id"`
	RawBody []byte `contentType:"application/octet-stream"`
}

func (s *Server) setPicture(ctx context.Context, in *pictureFile) (api.Badge, error) {
	if len(in.RawBody) == 0 {
		return api.Badge{}, refusal.Invalid("picture", "is empty")
	}
	b, err := s.Badges.SetPicture(ctx, auth.Caller(ctx).Name, in.ID, in.RawBody)
	return s.shownBadge(badgestore.ListedBadge{Badge: b}), err
}

func (s *Server) removePicture(ctx context.Context, in *byID) error {
	_, err := s.Badges.SetPicture(ctx, auth.Caller(ctx).Name, in.ID, nil)
	return err
}

func (s *Server) awardBadge(ctx context.Context, in *withID[api.NewAwards]) (api.Page[api.Awarding], error) {
	w := badges.Wish{Note: in.Body.Note, SectionID: in.Body.SectionID}
	for _, e := range in.Body.Evidence {
		w.Evidence = append(w.Evidence, badgestore.Evidence{Address: e.Address, Text: e.Text})
	}
	if in.Body.Date != nil {
		w.At = *in.Body.Date
	}
	all, err := s.Badges.AwardByHand(ctx, awarder(ctx), in.ID, in.Body.People, w, in.Body.Apply)
	return api.Page[api.Awarding]{Items: each(all, s.awarding)}, err
}

// awardsFile is a CSV file of awards.
type awardsFile struct {
	Badge   string `query:"badge" doc:"Id of the badge of rows that name none"`
	Apply   bool   `query:"apply" doc:"Do it; without this it is only said what would become of each row"`
	RawBody []byte `contentType:"text/csv"`
}

func (s *Server) awardFile(ctx context.Context, in *awardsFile) (api.Page[api.Awarding], error) {
	all, err := s.Badges.AwardFromFile(ctx, awarder(ctx), in.Badge, in.RawBody, in.Apply)
	return api.Page[api.Awarding]{Items: each(all, s.awarding)}, err
}

func (s *Server) awarding(a badges.Awarding) api.Awarding {
	out := api.Awarding{
		Line: a.Line, Person: cmp.Or(a.Name, a.Person), PersonID: a.PersonID, Badge: cmp.Or(a.Title, a.Badge),
		BadgeID: a.BadgeID, Outcome: a.Outcome, Because: a.Because, AwardID: a.AwardID,
		Unmet: a.Unmet,
	}
	if a.AwardID != "" {
		out.Address = s.Badges.AwardAddress(a.AwardID)
	}
	return out
}

// badgeFile is a badge in any of its forms.
type badgeFile struct {
	Email   string `query:"email" doc:"Also says whether it was awarded to this address"`
	RawBody []byte `contentType:"application/octet-stream"`
}

func (s *Server) checkBadge(ctx context.Context, in *badgeFile) (api.CheckedBadge, error) {
	x, err := s.Badges.CheckFile(ctx, in.RawBody)
	return checkedBadge(x, in.Email), err
}

func checkedBadge(x openbadge.Examination, email string) api.CheckedBadge {
	c := api.CheckedBadge{
		Verdict: string(x.Verdict), Why: x.Why, Secured: x.Secured,
		Checks: each(x.Checks, func(k openbadge.Check) api.BadgeCheck { return api.BadgeCheck(k) }),
		Name:   x.Seen.Achievement.Name, Description: x.Seen.Achievement.Description,
		Criteria: x.Seen.Achievement.Criteria,
		Issuer:   x.Seen.Issuer.Name, IssuerID: x.Seen.Issuer.ID,
	}
	for into, at := range map[**time.Time]time.Time{&c.ValidFrom: x.Seen.ValidFrom, &c.ValidUntil: x.Seen.ValidUntil} {
		if !at.IsZero() {
			*into = &at
		}
	}
	if email = strings.TrimSpace(email); email != "" && x.Seen.HasAddress() {
		belongs := x.Seen.BelongsTo(email)
		c.Belongs = &belongs
	}
	return c
}

func (s *Server) listIssuerKeys(ctx context.Context, in *byID) (api.Page[api.IssuerKey], error) {
	all, err := s.Badges.Keys(ctx, in.ID)
	return api.Page[api.IssuerKey]{Items: each(all, s.issuerKey)}, err
}

func (s *Server) rotateIssuerKeys(ctx context.Context, in *byID) (api.Page[api.IssuerKey], error) {
	all, err := s.Badges.RotateKeys(ctx, auth.Caller(ctx).Name, in.ID)
	return api.Page[api.IssuerKey]{Items: each(all, s.issuerKey)}, err
}

func (s *Server) issuerKey(k badgestore.IssuerKey) api.IssuerKey {
	return api.IssuerKey{
		ID: k.ID, Algorithm: k.Algorithm, Address: s.Badges.KeyAddress(k), CreatedAt: k.CreatedAt,
		RetiredAt: k.RetiredAt,
	}
}

func (s *Server) issuer(i badgestore.Issuer) api.Issuer {
	out := api.Issuer{
		NewIssuer: api.NewIssuer{
			Name: i.Name, URL: i.URL, Email: i.Email, Description: i.Description, Terms: i.Terms,
		},
		ID: i.ID, Address: s.Badges.IssuerAddress(i.ID), DID: s.Badges.IssuerDID(i.ID),
	}
	if i.Picture != "" {
		out.Picture = s.Badges.PictureAddress(i.Picture)
	}
	return out
}

func (s *Server) shownBadge(b badgestore.ListedBadge) api.Badge {
	return api.Badge{
		NewBadge: api.NewBadge{
			IssuerID: b.IssuerID, Name: b.Name, Description: b.Description,
			Criteria: b.Criteria, Asks: b.Asks, Tags: b.Tags, Alignments: each(b.Alignments, alignment),
			ValidDays: b.ValidDays,
			State:     b.State, LastDay: b.LastDay, Renewable: b.Renewable, Level: b.Level,
		}, ID: b.ID, Version: b.Version, Revision: b.Revision, Issuer: b.Issuer, Awards: b.Awards, Revoked: b.Revoked,
		Picture: s.Badges.PictureAddress(b.Picture), OwnPicture: b.Picture != "",
		Design: b.Design,
	}
}

func (s *Server) shownAward(x badgestore.ListedAward) api.Award {
	return api.Award{
		ID: x.ID, Badge: x.Badge, BadgeID: x.BadgeID, Person: x.Person, Address: s.Badges.AwardAddress(x.ID),
		AwardedAt: x.AwardedAt, AwardedBy: x.AwardedBy, Note: x.Note, Version: x.Version, ValidUntil: x.ValidUntil,
		RenewedAt: x.RenewedAt,
		Evidence:  each(x.Evidence, func(e badgestore.Evidence) api.Evidence { return api.Evidence(e) }),
		RevokedAt: x.RevokedAt, RevokedBy: x.RevokedBy, Reason: x.Reason,
		SuspendedAt: x.SuspendedAt, SuspendedBy: x.SuspendedBy, SuspendedReason: x.SuspendedReason,
	}
}

func (s *Server) drawBadge(ctx context.Context, in *withID[api.BadgeDrawing]) (api.Badge, error) {
	b, err := s.Badges.Draw(ctx, auth.Caller(ctx).Name, in.ID, in.Body.Design)
	return s.shownBadge(badgestore.ListedBadge{Badge: b}), err
}

func (s *Server) getDrawing(ctx context.Context, in *byID) (api.BadgeDrawing, error) {
	d, err := s.Badges.Begin(ctx, in.ID)
	return api.BadgeDrawing{Design: d}, err
}

func (s *Server) previewDrawing(_ context.Context, in *with[api.BadgeDrawing]) (api.DrawnBadge, error) {
	svg, err := s.Badges.Drawn(in.Body.Design, in.Body.Title)
	return api.DrawnBadge{SVG: string(svg)}, err
}

func (s *Server) listSymbols(context.Context, *struct{}) (api.Page[api.BadgeSymbol], error) {
	return api.Page[api.BadgeSymbol]{Items: each(s.Badges.Symbols(), func(x badges.Symbol) api.BadgeSymbol {
		return api.BadgeSymbol{Name: x.Name, Path: x.Path}
	})}, nil
}

func (s *Server) setIssuerPicture(ctx context.Context, in *pictureFile) (api.Issuer, error) {
	if len(in.RawBody) == 0 {
		return api.Issuer{}, refusal.Invalid("picture", "is empty")
	}
	i, err := s.Badges.SetIssuerPicture(ctx, auth.Caller(ctx).Name, in.ID, in.RawBody)
	return s.issuer(i), err
}

func (s *Server) removeIssuerPicture(ctx context.Context, in *byID) error {
	_, err := s.Badges.SetIssuerPicture(ctx, auth.Caller(ctx).Name, in.ID, nil)
	return err
}
