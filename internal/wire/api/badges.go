package api

import (
	"time"

	"kanban/internal/core/badge"
	"kanban/internal/core/stage"
)

// NewIssuer makes an issuer of badges.
type NewIssuer struct {
	Name        string `json:"name"`
	URL         string `json:"url,omitempty"`
	Email       string `json:"email,omitempty"`
	Description string `json:"description,omitempty"`
	Terms       string `json:"terms,omitempty" doc:"Of use, for whoever relies on its badges"`
}

// Issuer gives out badges.
type Issuer struct {
	NewIssuer
	ID      string `json:"id"`
	Address string `json:"address" doc:"Its public profile"`
	Picture string `json:"picture,omitempty" doc:"Address of its picture"`
	DID     string `json:"did,omitempty" doc:"Its did:web; absent where the service is reached over http, for which there is none"`
}

// NewBadge makes a badge.
type NewBadge struct {
	IssuerID    string `json:"issuerId"`
	Name        string `json:"name"`
	Description string `json:"description" doc:"What it is for"`
	Criteria    string `json:"criteria" doc:"What one has to do"`
	// Asks is the same as programs read it.
	Asks []stage.Criterion `json:"asks,omitempty" maxItems:"20" doc:"The same as programs read it: all of it; each criterion names its course"`
	// Tags and what follows are what verifiers and readers of it are told beside.
	Tags       []string         `json:"tags,omitempty" maxItems:"20"`
	Alignments []BadgeAlignment `json:"alignments,omitempty" maxItems:"20" doc:"Goals of frameworks to which it belongs"`
	ValidDays  int              `json:"validDays,omitempty" minimum:"0" doc:"How many days an award holds; absent for good"`
	LastDay    string           `json:"lastDay,omitempty" doc:"Such as 2027-07-31: every award ends then at the latest"`
	Renewable  bool             `json:"renewable,omitempty" doc:"Who holds it can be awarded it again from 60 days before its end"`
	Level      string           `json:"level,omitempty" doc:"Such as \"advanced\"; its credentials say it"`
	State      string           `json:"state,omitempty" enum:"draft,published,withdrawn" doc:"Only a published one is awarded; published when absent"`
}

// BadgeAlignment says to which goal of a framework a badge belongs.
type BadgeAlignment struct {
	Name        string `json:"name" doc:"Of the goal"`
	Address     string `json:"address"`
	Description string `json:"description,omitempty"`
	Framework   string `json:"framework,omitempty"`
	Code        string `json:"code,omitempty"`
}

// EditBadge changes a badge; what is absent stays. What it says after it was awarded is a new version, and whoever
// holds it keeps it as it was.
type EditBadge struct {
	Name        *string            `json:"name,omitempty"`
	Description *string            `json:"description,omitempty"`
	Criteria    *string            `json:"criteria,omitempty"`
	Asks        *[]stage.Criterion `json:"asks,omitempty" maxItems:"20"`
	Tags        *[]string          `json:"tags,omitempty" maxItems:"20"`
	Alignments  *[]BadgeAlignment  `json:"alignments,omitempty" maxItems:"20"`
	ValidDays   *int               `json:"validDays,omitempty" minimum:"0"`
	LastDay     *string            `json:"lastDay,omitempty"`
	Renewable   *bool              `json:"renewable,omitempty"`
	Level       *string            `json:"level,omitempty"`
	State       *string            `json:"state,omitempty" enum:"draft,published,withdrawn"`
}

// BadgeVersion is a version of a badge that was.
type BadgeVersion struct {
	Version     int               `json:"version"`
	Name        string            `json:"name"`
	Description string            `json:"description"`
	Criteria    string            `json:"criteria"`
	Asks        []stage.Criterion `json:"asks,omitempty"`
	Tags        []string          `json:"tags"`
	Alignments  []BadgeAlignment  `json:"alignments"`
	ValidDays   int               `json:"validDays,omitempty"`
	LastDay     string            `json:"lastDay,omitempty"`
	Level       string            `json:"level,omitempty"`
	Awards      int               `json:"awards" doc:"How many people hold it"`
	ChangedBy   string            `json:"changedBy"`
	ChangedAt   time.Time         `json:"changedAt" doc:"When the next one took its place"`
}

// Badge can be awarded.
type Badge struct {
	NewBadge
	ID      string `json:"id"`
	Issuer  string `json:"issuer"`
	Version int    `json:"version" doc:"Counts what it said after it had been awarded"`
	// Revision is for If-Match.
	Revision int    `json:"revision" doc:"Counts every change"`
	Awards   int    `json:"awards" doc:"How many people hold it"`
	Revoked  int    `json:"revoked" doc:"How many awards of it were revoked"`
	Picture  string `json:"picture" doc:"Address of its picture"`
	// OwnPicture is whether the picture is its own, not the one that all badges have.
	OwnPicture bool `json:"ownPicture,omitempty"`
	// Design is there when the picture was drawn here.
	Design *badge.Design `json:"design,omitempty"`
}

// BadgeDrawing is a picture that is to be drawn.
type BadgeDrawing struct {
	Design badge.Design `json:"design"`
	Title  string       `json:"title,omitempty" maxLength:"200" doc:"For those who cannot see it"`
}

// DrawnBadge is a picture as it would be.
type DrawnBadge struct {
	SVG string `json:"svg"`
}

// BadgeSymbol can stand in the middle of a drawn picture.
type BadgeSymbol struct {
	Name string `json:"name"`
	Path string `json:"path" doc:"Its outline as SVG writes it, in a square of 256"`
}

// Award is a badge given to a person.
type Award struct {
	ID        string    `json:"id"`
	Badge     string    `json:"badge"`
	BadgeID   string    `json:"badgeId"`
	Person    string    `json:"person"`
	Address   string    `json:"address" doc:"Its public page"`
	AwardedAt time.Time `json:"awardedAt"`
	Version   int       `json:"version" doc:"Of the badge"`
	// ValidUntil is absent for one that holds for good.
	ValidUntil *time.Time `json:"validUntil,omitempty"`
	RenewedAt  *time.Time `json:"renewedAt,omitempty" doc:"When another award took its place"`
	AwardedBy  string     `json:"awardedBy,omitempty" doc:"Who awarded it by hand or from a file; absent where a rule or a stage did"`
	Note       string     `json:"note,omitempty"`
	Evidence   []Evidence `json:"evidence,omitempty"`
	// RevokedAt and what follows are there when it was revoked.
	RevokedAt *time.Time `json:"revokedAt,omitempty"`
	RevokedBy string     `json:"revokedBy,omitempty"`
	Reason    string     `json:"reason,omitempty" doc:"Why it was revoked; its public page says so"`
	// SuspendedAt and what follows are there while it does not hold for now.
	SuspendedAt     *time.Time `json:"suspendedAt,omitempty"`
	SuspendedBy     string     `json:"suspendedBy,omitempty"`
	SuspendedReason string     `json:"suspendedReason,omitempty" doc:"Why it is suspended; its public page says so"`
}

// NewAwards awards a badge to people by hand.
type NewAwards struct {
	People    []string   `json:"people" minItems:"1" maxItems:"20000" doc:"Ids of people"`
	Note      string     `json:"note,omitempty" maxLength:"2000" doc:"It stands in the badge; its page shows it once its holder shares it"`
	Evidence  []Evidence `json:"evidence,omitempty" maxItems:"20"`
	SectionID string     `json:"sectionId,omitempty" doc:"Where it was earned"`
	Date      *time.Time `json:"date,omitempty" doc:"When it was earned; now when absent"`
	Apply     bool       `json:"apply,omitempty" doc:"Do it; without this it is only said what would become of everybody"`
}

// Evidence shows that a badge was earned: an address, a text, or both.
type Evidence struct {
	Address string `json:"address,omitempty"`
	Text    string `json:"text,omitempty"`
}

// Awarding is what becomes of somebody who is to be awarded.
type Awarding struct {
	Line     int    `json:"line,omitempty" doc:"In the file"`
	Person   string `json:"person" doc:"As it was given, or the person's name"`
	PersonID string `json:"personId,omitempty"`
	Badge    string `json:"badge"`
	BadgeID  string `json:"badgeId,omitempty"`
	Outcome  string `json:"outcome" enum:"to-award,awarded,held,refused"`
	Because  string `json:"because,omitempty"`
	// Unmet is left to whoever awards it.
	Unmet   []string `json:"unmet,omitempty" doc:"What the badge asks for and they have not done; it is awarded all the same"`
	AwardID string   `json:"awardId,omitempty"`
	Address string   `json:"address,omitempty" doc:"The award's public page"`
}

// Revocation says why an award is revoked or suspended.
type Revocation struct {
	Reason string `json:"reason" doc:"Shown to whoever checks the badge"`
}

// IssuerKey is a key with which an issuer signs, or did.
type IssuerKey struct {
	ID        string     `json:"id" doc:"Its thumbprint (RFC 7638)"`
	Algorithm string     `json:"algorithm" enum:"RS256,EdDSA" doc:"RS256 signs credentials as JWT, EdDSA the proofs inside them"`
	Address   string     `json:"address" doc:"Where it is published"`
	CreatedAt time.Time  `json:"createdAt"`
	RetiredAt *time.Time `json:"retiredAt,omitempty" doc:"Since then nothing is signed with it; what was signed keeps verifying"`
}

// CheckedBadge is what looking at a badge gave. What the badge says is to be believed only as far as the verdict goes.
type CheckedBadge struct {
	Verdict string       `json:"verdict" enum:"valid,not-yet-valid,expired,suspended,revoked,altered,unknown-issuer,cannot-be-checked"`
	Why     string       `json:"why"`
	Checks  []BadgeCheck `json:"checks"`
	Secured string       `json:"secured,omitempty" enum:"JWT,Data Integrity" doc:"How it is secured"`

	Name        string     `json:"name,omitempty"`
	Description string     `json:"description,omitempty"`
	Criteria    string     `json:"criteria,omitempty"`
	Issuer      string     `json:"issuer,omitempty" doc:"The issuer's name, by its own word"`
	IssuerID    string     `json:"issuerId,omitempty"`
	ValidFrom   *time.Time `json:"validFrom,omitempty"`
	ValidUntil  *time.Time `json:"validUntil,omitempty"`
	Belongs     *bool      `json:"belongs,omitempty" doc:"Whether it was awarded to the address that was asked about; absent when none was, or it does not say"`
}

// BadgeCheck is one look at a badge.
type BadgeCheck struct {
	What    string `json:"what" enum:"read,issuer,signature,dates,status"`
	Outcome string `json:"outcome" enum:"passed,failed,unknown"`
	Detail  string `json:"detail"`
}

// NewHolderTerms are terms as they are to be.
type NewHolderTerms struct {
	Text string `json:"text"`
}

// HolderTerms are what people accept before anything about them is public.
type HolderTerms struct {
	Version   int    `json:"version" doc:"Each change counts one on"`
	Text      string `json:"text"`
	ChangedBy string `json:"changedBy,omitempty"`
}

// HolderLink opens the page of somebody's badges.
type HolderLink struct {
	Address string `json:"address" doc:"It holds for 90 days, with the e-mail address of whom it is for"`
}
