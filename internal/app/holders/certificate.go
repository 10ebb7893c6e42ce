package holders

import (
	"context"
	"slices"
	"time"

	"rsc.io/qr"

	"kanban/internal/core/badge"
	"kanban/internal/core/refusal"
	"kanban/internal/store/badgestore"
	"kanban/internal/wire/drawing"
	"kanban/internal/wire/openbadge"
)

// The certificate's page: A4 lying on its side, in points.
const (
	pageWidth, pageHeight = 842.0, 595.0
	margin                = 54.0
)

const (
	ink   = drawing.Colour("#22291f")
	faint = drawing.Colour("#6b7163")
	paper = drawing.Colour("#fffdf7")
	frame = drawing.Colour("#2f6136")
)

// Certificate draws somebody's award on one page, with a code by which anybody checks it: as PDF.
func (s *Service) Certificate(ctx context.Context, personID, awardID string) ([]byte, error) {
	d, err := s.Drawn(ctx, personID, awardID)
	if err != nil {
		return nil, err
	}
	return d.PDF(s.Clock.Now().UTC())
}

// Drawn draws the certificate of an award that holds.
func (s *Service) Drawn(ctx context.Context, personID, awardID string) (*drawing.Drawing, error) {
	_, h, err := s.Who(ctx, personID)
	if err != nil {
		return nil, err
	}
	a, err := s.theirs(ctx, personID, awardID)
	if err != nil {
		return nil, err
	}
	if a.RevokedAt != nil || a.SuspendedAt != nil {
		return nil, refusal.Conflict("", "this badge does not hold, so there is no certificate of it")
	}
	seen, err := s.Badges.Check(ctx, awardID)
	if err != nil {
		return nil, err
	}
	return s.drawn(ctx, a, seen.Seen, h.ShownName)
}

func (s *Service) drawn(ctx context.Context, a badgestore.Award, seen openbadge.Seen, name string) (*drawing.Drawing,
	error,
) {
	says := seen.Achievement // the badge as it was awarded, whatever it says now
	d := drawing.New(pageWidth, pageHeight, says.Name+": "+name)
	d.Fill(drawing.Rect(0, 0, pageWidth, pageHeight), paper)
	border(d)
	if err := s.picture(ctx, d, a); err != nil {
		return nil, err
	}
	const x, width = 330.0, pageWidth - 330 - margin - 20
	text := func(size float64, bold bool, c drawing.Colour) drawing.Style {
		return drawing.Style{Size: size, Bold: bold, Colour: c}
	}
	y := 116.0
	y = d.Wrapped(seen.Issuer.Name, text(15, true, frame), x, y, width, drawing.Start, 2) + 12
	d.Text("awards to", text(12, false, faint), x, y, drawing.Start)
	y += 38
	holder := drawing.Fitted(name, text(34, true, ink), width*1.6)
	y = d.Wrapped(name, holder, x, y, width, drawing.Start, 2) + 2
	d.Text("the badge", text(12, false, faint), x, y-8, drawing.Start)
	y += 20
	y = d.Wrapped(says.Name, text(24, true, ink), x, y, width, drawing.Start, 2) + 2
	y = d.Wrapped(says.Description, text(12, false, ink), x, y, width, drawing.Start, 3) + 6
	y = d.Wrapped("What it took: "+says.Criteria, text(11, false, ink), x, y, width, drawing.Start, 4) + 6
	if seen.Narrative != "" {
		d.Wrapped(seen.Narrative, text(11, false, ink), x, y, width, drawing.Start, 3)
	}
	return d, code(d, s.Badges.AwardAddress(a.ID), seen)
}

// border is a double frame.
func border(d *drawing.Drawing) {
	box := func(in, wide float64, c drawing.Colour) {
		d.Fill(drawing.Rect(in, in, pageWidth-2*in, wide), c)
		d.Fill(drawing.Rect(in, pageHeight-in-wide, pageWidth-2*in, wide), c)
		d.Fill(drawing.Rect(in, in, wide, pageHeight-2*in), c)
		d.Fill(drawing.Rect(pageWidth-in-wide, in, wide, pageHeight-2*in), c)
	}
	box(24, 3, frame)
	box(31, 0.8, frame)
}

// picture puts the award's own picture on the left.
func (s *Service) picture(ctx context.Context, d *drawing.Drawing, a badgestore.Award) error {
	forms, err := s.Badges.Forms(ctx, a)
	if err != nil {
		return err
	}
	const side, x, y = 220.0, 66.0, 120.0
	if !slices.Contains(forms, "png") { // an SVG of somebody's own cannot be drawn into a PDF here
		general, err := drawing.Emblem(badge.Design{
			Shape: "round", Symbol: "medal", Colours: badge.Colours{
				Edge: string(frame), Body: string(frame), Disc: string(paper), Symbol: string(frame),
				Text: string(paper),
			},
		}, "")
		if err == nil {
			d.Put(general, x, y, side, side)
		}
		return err
	}
	content, err := s.Badges.Baked(ctx, a.ID, "png")
	if err == nil {
		d.PutPNG(content, x, y, side, side)
	}
	return err
}

// code puts the dates, the address of the award and its code at the foot.
func code(d *drawing.Drawing, address string, seen openbadge.Seen) error {
	code, err := qr.Encode(address, qr.M)
	if err != nil {
		return err
	}
	const side = 82.0
	x, y := margin+12, pageHeight-margin-side-4
	module := side / float64(code.Size)
	var all drawing.Path
	for row := range code.Size {
		for column := range code.Size {
			if code.Black(column, row) {
				// a little wider, so that no line shines through between two
				at := drawing.Rect(x+float64(column)*module, y+float64(row)*module, module+0.1, module+0.1)
				all = append(all, at...)
			}
		}
	}
	d.Fill(all, ink)
	small := drawing.Style{Size: 11, Colour: ink}
	dates := "Awarded on " + day(seen.ValidFrom)
	if !seen.ValidUntil.IsZero() {
		dates += ", valid until " + day(seen.ValidUntil)
	}
	left, width := x+side+18, pageWidth-2*margin-side-42
	d.Text(dates, small, left, y+22, drawing.Start)
	d.Text("Whether it is true and still holds, this code and this address tell:", drawing.Style{Size: 10, Colour: faint},
		left, y+44, drawing.Start)
	style := drawing.Fitted(address, drawing.Style{Size: 10, Colour: frame}, width)
	d.Text(address, style, left, y+60, drawing.Start)
	d.Link(address, left, y+50, width, 14)
	d.Link(address, x, y, side, side)
	return nil
}

func day(at time.Time) string { return at.UTC().Format("2 January 2006") }
