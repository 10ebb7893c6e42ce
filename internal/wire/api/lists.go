package api

import (
	"time"

	"kanban/internal/core/roster"
)

// PeopleList is people that can be paired like a section. As a section it has the same id.
type PeopleList struct {
	ID          string    `json:"id"`
	Kind        string    `json:"kind" enum:"course,organisation,named" doc:"Everybody of a course, of an organisation, or those who are named"`
	Name        string    `json:"name"`
	InterfaceID string    `json:"interfaceId" doc:"The register"`
	Learners    int       `json:"learners"`
	Teachers    []string  `json:"teachers"`
	Targets     []string  `json:"targets" doc:"The classes with which it is paired"`
	Gone        bool      `json:"gone,omitempty" doc:"The course or organisation is no longer in the register"`
	MadeBy      string    `json:"madeBy"`
	CreatedAt   time.Time `json:"createdAt"`
	Version     int       `json:"version"`
}

// NewPeopleList makes one.
type NewPeopleList struct {
	Kind   string   `json:"kind" enum:"course,organisation,named"`
	OfID   string   `json:"ofId,omitempty" doc:"The course's or organisation's id"`
	Name   string   `json:"name,omitempty" doc:"That of the course or organisation when absent"`
	People []string `json:"people,omitempty" doc:"Ids, for a list of named people"`
}

// EditPeopleList changes one.
type EditPeopleList struct {
	Name *string  `json:"name,omitempty"`
	Add  []string `json:"add,omitempty" doc:"Ids of people, for a list of named people"`
	Drop []string `json:"drop,omitempty" doc:"Ids of people"`
}

// Listed is somebody on a people list.
type Listed struct {
	PersonID   string      `json:"personId"`
	Name       string      `json:"name"`
	Identifier string      `json:"identifier"`
	Role       roster.Role `json:"role"`
	Begins     *time.Time  `json:"begins,omitempty" doc:"The first day of somebody who has not begun"`
}

// Organisation is an organisation of a register.
type Organisation struct {
	ID          string `json:"id"`
	Name        string `json:"name"`
	Type        string `json:"type"`
	InterfaceID string `json:"interfaceId"`
}
