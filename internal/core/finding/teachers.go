package finding

// forTeachers says of people what a teacher needs to know of them, without words of those who run Kanban.
var forTeachers = map[Code]string{
	AccountInactive:  "They have an account, but have not signed in to it yet. Ask them to: they are in the class after that.",
	NotBegun:         "They are enrolled from a later day, and come into the class then.",
	HeldBack:         "They wait until you open the class.",
	PersonDisabled:   "The register office has switched them off.",
	AddressMissing:   "The register office has no e-mail address for them. With one they come into the class by themselves.",
	AddressInvalid:   "The e-mail address that the register office has for them does not work.",
	AddressShared:    "The register office has one e-mail address for two people, so nobody knows whose account it is.",
	TwoCandidates:    "They have two accounts, and somebody has to say which one is to be used.",
	AccountTaken:     "Their account belongs to somebody else already: an address or a user name is wrong.",
	IdentityMixed:    "Their account has the name of somebody else at the service.",
	RefusedByService: "The service does not let them in.",
	NotArrived:       "They were put into the class, but are not in it.",
	NoLongerEnrolled: "They have left the section.",
	LeftOutByRule:    "A rule leaves them out on purpose.",
	SecondAccount:    "This is a second record of somebody who is in the class already.",
	TestLearner:      "This is a test learner, not a person.",
}

// ForTeachers says what a code about somebody means to a teacher; its title where there are no words for that.
func ForTeachers(c Code) string {
	if text, known := forTeachers[c]; known {
		return text
	}
	return Title(c)
}
