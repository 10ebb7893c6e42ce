package school

import (
	"fmt"
	"strings"
	"time"
)

var learners = strings.Fields(`
Ada_Alder Bram_Birch Cleo_Clover Dario_Dill Elsa_Elder Finn_Fennel Gwen_Gorse Hugo_Hazel Ines_Iris Jori_Juniper
Kira_Kale Linus_Lovage Mara_Maple Nils_Nettle Orla_Oak Pim_Plum Quinn_Quince Rosa_Rowan Sami_Sage Tilda_Thyme
Uma_Ulmo Vito_Vetch Wren_Willow Xenia_Yarrow Yann_Yew Zora_Zinnia Abel_Aster Bina_Bryony Cato_Cedar Dora_Daisy
Emil_Elm Faye_Fern Gil_Ginkgo Hedda_Heather Ivo_Ivy Juno_Jasmine Kaspar_Karri Lotte_Lilac Mika_Mallow Nora_Nutmeg
Otis_Orchid Petra_Poppy Ravi_Reed Selma_Sorrel Timo_Teasel Ursa_Umbra Vera_Violet Wim_Woad Ylva_Yucca Zeno_Zest
Anouk_Arnica Boris_Borage Carla_Carob Dima_Damson Edda_Eucla Flora_Fig Goran_Gale Hanne_Hop Isak_Indigo Tamsin_Trial`)

var staff = strings.Fields(`Maud_Marrow Otto_Onion Pia_Parsley Rolf_Rhubarb Sia_Spinach Theo_Turnip Vilma_Vanilla Wanda_Walnut`)

// Ids of the people and sections on which the demo data builds.
const (
	PropagationA = "sec-prop-a"
	PropagationB = "sec-prop-b"
	OrchardA     = "sec-orch-a"
	TwinOne      = "stu-003" // Cleo Clover, shares an address with
	TwinTwo      = "stu-004" // Dario Dill
	NoAddress    = "stu-005" // Elsa Elder has no address
	OldDomain    = "stu-006" // Finn Fennel still has an address the workspace refuses
	NotActive    = "stu-007" // Gwen Gorse was invited to the workspace and never went
	Doubled      = "stu-014" // Nils Nettle has two workspace accounts
	Mover        = "stu-012" // Linus Lovage moved from Propagation B to A
	TestLearner  = "stu-060" // Tamsin Trial, the test learner
	Preview      = "stu-preview"
	SecondStaff  = "tea-001-admin"
)

// Fernmoor makes the school as it is at the given time: the first of its two
// terms is running.
func Fernmoor(now func() time.Time) *School {
	today := now().UTC().Truncate(24 * time.Hour)
	s := &School{Name: "Fernmoor Garden School", now: now}
	s.Terms = []Term{
		{"term-1", "First term", today.AddDate(0, 0, -80), today.AddDate(0, 0, 67)},
		{"term-2", "Second term", today.AddDate(0, 0, 77), today.AddDate(0, 0, 220)},
	}
	s.Courses = []Course{
		{"crs-prop", "Propagation", "PROP"},
		{"crs-orch", "Orchard care", "ORCH"},
		{"crs-glass", "Glasshouse climate", "GLAS"},
		{"crs-soil", "Soil science", "SOIL"},
		{"crs-bees", "Beekeeping", "BEES"},
		{"crs-adv", "Advisory hour", "ADV"},
	}
	s.sections = []Section{
		{PropagationA, "Propagation A", "PROP-A", "crs-prop", "term-1", false, []string{"07"}, []string{"Gardening"}},
		{PropagationB, "Propagation B", "PROP-B", "crs-prop", "term-1", false, []string{"07"}, []string{"Gardening"}},
		{"sec-prop-c", "Propagation C", "PROP-C", "crs-prop", "term-1", false, []string{"07"}, []string{"Gardening"}},
		{OrchardA, "Orchard care A", "ORCH-A", "crs-orch", "term-1", false, []string{"07"}, []string{"Gardening"}},
		{
			"sec-orch-b", "Orchard care B", "ORCH-B", "crs-orch", "term-2", false,
			[]string{"07"},
			[]string{"Gardening"},
		},
		{
			"sec-glass-a", "Glasshouse climate A", "GLAS-A", "crs-glass", "term-1", false,
			[]string{"07"},
			[]string{"Gardening"},
		},
		{"sec-soil-a", "Soil science A", "SOIL-A", "crs-soil", "term-1", false, nil, nil},
		{"sec-bees-a", "Beekeeping A", "BEES-A", "crs-bees", "term-2", false, []string{"07"}, []string{"Gardening"}},
		{"sec-adv", "Advisory hour", "ADV-1", "crs-adv", "term-1", true, nil, nil},
	}
	start := s.Terms[0].Start
	for i, name := range learners {
		s.person(fmt.Sprintf("stu-%03d", i+1), name, "student", start)
	}
	for i, name := range staff {
		s.person(fmt.Sprintf("tea-%03d", i+1), name, "teacher", start)
	}
	s.dirt(start)
	s.seat()
	for i := range s.enrolments {
		s.enrolments[i].Begin, s.enrolments[i].Modified = start, start
	}
	return s
}

func (s *School) person(id, name, role string, at time.Time) {
	given, family, _ := strings.Cut(name, "_")
	user := strings.ToLower(given + "." + family)
	s.people = append(s.people, Person{
		ID: id, GivenName: given, FamilyName: family, UserName: user, Role: role,
		Email: user + "@fernmoor.example", Modified: at,
	})
}

// dirt is what real registers are like.
func (s *School) dirt(at time.Time) {
	for i := range s.people {
		switch p := &s.people[i]; p.ID {
		case TwinOne, TwinTwo:
			p.Email = "family.clover@post.example"
		case NoAddress:
			p.Email = ""
		case OldDomain:
			p.Email = "finn.fennel@old.fernmoor.example"
		case "stu-020":
			p.Disabled = true
		case "tea-001":
			p.Master = "staff-77"
		}
	}
	s.people = append(s.people,
		Person{
			ID: SecondStaff, GivenName: "Maud", FamilyName: "Marrow", Email: "office.maud@fernmoor.example",
			UserName: "maud.marrow.office", Role: "teacher", Master: "staff-77", Secondary: true, Modified: at,
		},
		Person{
			ID: Preview, GivenName: "Preview", FamilyName: "Learner", UserName: "preview", Role: "ext:preview",
			Modified: at,
		},
	)
}

// seat fills the sections: 12 learners in each of the Propagation sections, the
// others from overlapping stretches of the list. The test learner sits nowhere.
func (s *School) seat() {
	stretch := func(section string, from, to int) {
		for i := from; i <= to; i++ {
			s.enrol(section, fmt.Sprintf("stu-%03d", i), "student")
		}
	}
	teach := func(section string, teachers ...int) {
		for _, t := range teachers {
			s.enrol(section, fmt.Sprintf("tea-%03d", t), "teacher")
		}
	}
	stretch(PropagationA, 1, 12)
	stretch(PropagationB, 12, 24)
	stretch("sec-prop-c", 25, 36)
	stretch(OrchardA, 20, 38)
	stretch("sec-orch-b", 39, 50)
	stretch("sec-glass-a", 30, 48)
	stretch("sec-soil-a", 1, 20)
	stretch("sec-bees-a", 45, 59)
	stretch("sec-adv", 1, 30)
	teach(PropagationA, 1, 2)
	teach(PropagationB, 2)
	teach("sec-prop-c", 3)
	teach(OrchardA, 4)
	teach("sec-orch-b", 4, 5)
	teach("sec-glass-a", 6)
	teach("sec-soil-a", 7)
	teach("sec-bees-a", 8)
	teach("sec-adv", 1)
	s.enrol(PropagationA, SecondStaff, "teacher")
	s.enrol(PropagationA, Preview, "ext:preview")
	for i, e := range s.enrolments {
		if e.SectionID == PropagationB && e.PersonID == Mover {
			s.enrolments[i].Ended = true
		}
	}
}
