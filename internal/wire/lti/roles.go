package lti

import "strings"

// Role is what somebody is in a context, as far as Kanban tells apart.
type Role string

// The roles.
const (
	Teacher Role = "teacher"
	Learner Role = "learner"
	Other   Role = "other" // mentors, administrators without a part in the course, and roles that are not known
)

const (
	contextRole    = "http://purl.imsglobal.org/vocab/lis/v2/membership#"
	contextSubRole = "http://purl.imsglobal.org/vocab/lis/v2/membership/"
	testUser       = "http://purl.imsglobal.org/vocab/lti/system/person#TestUser"
)

// RoleIn gives what somebody is in the context (LTI Core 1.3, A.2.2 and A.2.3): context roles alone count, by their
// whole names or by their bare ones. Who is a teacher and a learner there is a teacher.
func RoleIn(roles []string) Role {
	out := Other
	for _, r := range roles {
		principal, isContext := strings.CutPrefix(r, contextRole)
		if sub, is := strings.CutPrefix(r, contextSubRole); is { // its principal role stands before the #
			principal, _, _ = strings.Cut(sub, "#")
			isContext = true
		}
		if !isContext && strings.ContainsAny(r, ":/#") {
			continue // a role in the institution or in the system says nothing about the context
		}
		switch principal {
		case "Instructor":
			return Teacher
		case "Learner":
			out = Learner
		}
	}
	return out
}

// IsTestUser reports whether the platform says that nobody real opened the link (LTI Core 1.3, A.2.1).
func IsTestUser(roles []string) bool {
	for _, r := range roles {
		if r == testUser {
			return true
		}
	}
	return false
}
