package drawing

import (
	"fmt"
	"strconv"
)

// MapStage is a stage on a map.
type MapStage struct {
	Title    string
	Optional bool
	Badge    string // that it gives; "" for none
	// Reached and Of count a group: so many of so many have reached it, and it is next for Next of them.
	Reached, Of, Next int
	// Done says that whoever the map is of has reached it, Open that they are at work on it.
	Done, Open bool
}

const (
	mapWidth   = 760.0
	mapNarrow  = 400.0 // of one person: it fits on a telephone
	mapRow     = 76.0
	mapHead    = 64.0
	mapLine    = 46.0 // where the way runs
	mapText    = 84.0
	mapCounted = 250.0 // how wide the bar of a group is
)

// StageMap draws the way through a stage plan: of one person, or of a group with how many stand where.
func StageMap(title, about string, stages []MapStage, group bool) *Drawing {
	wide := mapNarrow
	if group {
		wide = mapWidth
	}
	d := New(wide, mapHead+mapRow*float64(len(stages))+16, title)
	d.Description = about
	d.Fill(Rect(0, 0, d.Width, d.Height), Paper)
	d.Text(title, Fitted(title, Style{Size: 22, Bold: true, Colour: Ink}, wide-40), 20, 32, Start)
	d.Text(about, Fitted(about, Style{Size: 13, Colour: Faint}, wide-40), 20, 52, Start)
	for i, s := range stages {
		y := mapHead + mapRow*(float64(i)+0.5)
		if i > 0 {
			way(d, y, stages[i-1].Done && s.Done)
		}
		s.draw(d, i+1, y, group)
	}
	return d
}

// way leads from the stage above to the one at y.
func way(d *Drawing, y float64, done bool) {
	c := Pale
	if done {
		c = Done
	}
	d.Fill(Rect(mapLine-2, y-mapRow+18, 4, mapRow-36), c)
}

func (s MapStage) draw(d *Drawing, n int, y float64, group bool) {
	edge, inside, number := Pale, Paper, Faint
	switch {
	case s.Done:
		edge, inside, number = Done, Done, Paper
	case s.Open:
		edge, number = Signal, Signal
	case group:
		edge, number = Ink, Ink
	}
	if s.Optional { // beside the way
		d.Fill(diamond(mapLine, y, 22), edge)
		d.Fill(diamond(mapLine, y, 18), inside)
	} else {
		d.Fill(Circle(mapLine, y, 18), edge)
		d.Fill(Circle(mapLine, y, 15.5), inside)
	}
	if s.Done {
		d.Symbol("check-fat", mapLine-9, y-9, 18, number)
	} else {
		d.Text(strconv.Itoa(n), Style{Size: 15, Bold: true, Colour: number}, mapLine, y+5.5, Middle)
	}
	width := d.Width - mapText - 20
	if group {
		width -= mapCounted + 20
	}
	title := s.Title
	if s.Optional {
		title += " (optional)"
	}
	d.Text(title, Fitted(title, Style{Size: 17, Bold: true, Colour: Ink}, width), mapText, y-2, Start)
	if s.Badge != "" {
		d.Symbol("medal", mapText, y+6, 16, Signal)
		d.Text(s.Badge, Fitted(s.Badge, Style{Size: 13, Colour: Faint}, width-22), mapText+21, y+19, Start)
	}
	if group {
		s.counted(d, y)
	}
}

func diamond(x, y, r float64) Path {
	return Polygon(Point{x, y - r}, Point{x + r, y}, Point{x, y + r}, Point{x - r, y})
}

// counted shows how many of a group have reached a stage.
func (s MapStage) counted(d *Drawing, y float64) {
	x := mapWidth - mapCounted - 20
	d.Fill(Rounded(x, y-12, mapCounted, 9, 4.5), Pale)
	if s.Of > 0 && s.Reached > 0 {
		d.Fill(Rounded(x, y-12, max(9, mapCounted*float64(s.Reached)/float64(s.Of)), 9, 4.5), Done)
	}
	text := fmt.Sprintf("%d of %d reached it", s.Reached, s.Of)
	if s.Next > 0 {
		text += fmt.Sprintf(", next for %d", s.Next)
	}
	d.Text(text, Style{Size: 12.5, Colour: Faint}, x, y+16, Start)
}
