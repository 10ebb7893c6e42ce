package finding

// Codes about one person in one pairing. Every outcome of a comparison carries
// exactly one of them as its reason.
const (
	InStep           Code = "member-in-step"
	TakenOver        Code = "member-taken-over"
	NewMember        Code = "member-new"
	NewAccount       Code = "account-new"
	AccountReturns   Code = "account-returns"
	DetailsDiffer    Code = "details-differ"
	GroupDiffers     Code = "group-differs"
	NoLongerEnrolled Code = "no-longer-enrolled"
	LeaverKept       Code = "leaver-kept"
	AccountInactive  Code = "account-not-active"
	NotBegun         Code = "not-begun"
	HeldBack         Code = "held-back"
	TestLearner      Code = "test-learner"
	RoleNotCarried   Code = "role-not-carried"
	SecondAccount    Code = "second-account"
	PersonDisabled   Code = "person-disabled"
	NotOurs          Code = "member-not-ours"
	LeftOutByRule    Code = "left-out-by-rule"
	Reverted         Code = "reverted"
	ChangedSince     Code = "changed-since"
	AddressMissing   Code = "address-missing"
	AddressInvalid   Code = "address-invalid"
	AddressShared    Code = "address-shared"
	TwoCandidates    Code = "two-candidates"
	AccountTaken     Code = "account-taken"
	IdentityMixed    Code = "identity-mixed"
	RefusedByService Code = "refused-by-service"
	NotArrived       Code = "sent-not-arrived"
)

// Codes about reading a register.
const (
	RowMalformed       Code = "record-malformed"
	RowDuplicate       Code = "record-duplicate"
	ReferenceUnknown   Code = "reference-unknown"
	RegisterShrunk     Code = "register-shrunk"
	EnrolmentDuplicate Code = "enrolment-duplicate"
	ColumnUnknown      Code = "column-unknown"
	PackageUnreadable  Code = "package-unreadable"
	ReferenceDeleted   Code = "reference-deleted"
	DatesReversed      Code = "dates-reversed"
	RoleUnknown        Code = "role-unknown"
	StatusUnknown      Code = "status-unknown"
	ReadIncomplete     Code = "read-incomplete"
	StillReferred      Code = "vanished-but-referred-to"
	IdentifierShared   Code = "identifier-shared"
	FilePassedOver     Code = "file-passed-over"
)

// Codes about sections, and what can be done with them.
const (
	LinkTwice       Code = "linked-already"
	SectionGone     Code = "section-vanished"
	SectionEnded    Code = "section-ended"
	SectionEmpty    Code = "section-empty"
	TermOver        Code = "term-over"
	TermEnds        Code = "term-ends"
	OtherCourse     Code = "other-course"
	OtherTerm       Code = "other-term"
	AlreadyPaired   Code = "already-paired"
	TargetPaired    Code = "target-paired"
	TargetNotEmpty  Code = "target-not-empty"
	TargetStrangers Code = "target-holds-others"
	TargetTooSmall  Code = "target-too-small"
	PoorOverlap     Code = "few-people-shared"
	NameTaken       Code = "name-taken"
	NameUnfit       Code = "name-cannot-be"
	GroupLeft       Code = "group-left-over"
	DetailMissing   Code = "class-detail-missing"
	OtherSection    Code = "in-another-sections-class"
)

// Codes about interfaces, runs and deliveries.
const (
	Unreachable       Code = "service-unreachable"
	WrongCredential   Code = "wrong-credential"
	NotAllowed        Code = "not-allowed"
	NotEnabled        Code = "not-enabled"
	NotThere          Code = "nothing-there"
	Broken            Code = "service-broken"
	Throttled         Code = "service-throttled"
	ServiceResting    Code = "service-resting"
	SubscriptionEnded Code = "subscription-ended"
	SignatureRefused  Code = "signature-refused"
	EventUnusable     Code = "event-unusable"
	StatementWaits    Code = "statement-waits"
	OperationResting  Code = "operation-resting"
	PreviewMoved      Code = "preview-moved"
	RunFailed         Code = "run-failed"
	RemovalGuard      Code = "removal-above-guard"
	TargetGone        Code = "target-gone"
	TakeOverOffered   Code = "take-over-offered"
	TargetRenamed     Code = "target-renamed"
	DeliveryWaiting   Code = "delivery-waits"
	OtherResultCounts Code = "other-result-counts"
	ConditionRefused  Code = "condition-refused"
	TemplateIncorrect Code = "template-incorrect"
	GroupMissing      Code = "group-missing"
	AccountMissing    Code = "account-missing"
	NotSuccess        Code = "answer-not-success"
	OperationGone     Code = "operation-gone"
	CannotRevert      Code = "cannot-revert"
	AccessNoEnrolment Code = "access-without-enrolment"
	EnrolmentNoAccess Code = "enrolment-without-access"
	BuyerUnknown      Code = "buyer-unknown"
	BuyerAmbiguous    Code = "buyer-ambiguous"
	OfferUnknown      Code = "offer-unknown"
	TaskOpen          Code = "task-open"
	OfferNoSection    Code = "offer-without-section"
	NotTried          Code = "rule-not-tried"
	NotTested         Code = "values-not-tested"
	NeededGone        Code = "needed-and-gone"
	RecordsProposed   Code = "records-proposed"
	PeopleTwice       Code = "people-in-two-registers"
	CredentialEnds    Code = "credential-ends"
	SignInEnded       Code = "sign-in-ended"
	SignInPending     Code = "sign-in-pending"
	InACircle         Code = "rules-in-a-circle"
	ChainStopped      Code = "chain-stopped"
	Reversed          Code = "completion-reversed"
	StillToCome       Code = "deliveries-still-to-come"
	ReportNotSent     Code = "report-not-sent"
	ProgressDiffers   Code = "progress-differs"
)

var catalogue = []Entry{
	{
		InStep, Note, "in step",
		"The person is in the section and in the target, and what we keep there is the same.",
		"Nothing to do.", OwnerNobody,
	},
	{
		TakenOver, Note, "in step, ours from now on",
		"The person is in the section and was in the target already. From this run on Kanban minds their place: when they leave the section they are taken out like everybody else.", "Nothing to do.", OwnerNobody,
	},
	{
		NewMember, Note, "account found, not yet a member",
		"The person is in the section and has an account at the service, but is not in the target.",
		"The next run adds them.", OwnerNobody,
	},
	{
		NewAccount, Note, "no account yet", "The person is in the section and has no account at the service.",
		"The next run creates the account and adds it to the target.", OwnerNobody,
	},
	{
		AccountReturns, Note, "comes back, account switched off",
		"The person is in the section again; Kanban had switched their account off when they left.",
		"The next run switches the account on and adds them.", OwnerNobody,
	},
	{
		DetailsDiffer, Note, "name or address changed",
		"The account at the service was made by Kanban and its name or address differs from the register.",
		"The next run updates it.", OwnerNobody,
	},
	{
		GroupDiffers, Note, "belongs into another group",
		"The sections of a linked set share one target with a group for each section; the person is in the target and not in the groups of their sections.", "The next run puts them into the right groups.", OwnerNobody,
	},
	{
		NoLongerEnrolled, Note, "left the section",
		"The person was put into the target by Kanban and is no longer in the section.",
		"The next run takes them out, as the pairing's policy says.", OwnerNobody,
	},
	{
		LeaverKept, Note, "left the section, kept by policy",
		"The person left the section; the pairing's policy keeps leavers in the target.",
		"Nothing to do, or change the policy for leavers.", OwnerNobody,
	},
	{
		AccountInactive, Note, "account not active yet",
		"The account exists at the service but has not been activated.",
		"The person signs in to the service once; the next run adds them.", OwnerLearner,
	},
	{
		NotBegun, Note, "enrolment has not begun",
		"The register enrols this person from a day that is still to come.",
		"Nothing to do: the person goes in on that day.", OwnerNobody,
	},
	{
		HeldBack, Note, "held until the class opens",
		"Learners of this pairing wait until its teacher opens the class.",
		"Open the class when it is ready.", OwnerTeacher,
	},
	{
		TestLearner, Note, "test learner", "This is a test learner of the course platform, not a person.",
		"Nothing to do: left out on purpose.", OwnerNobody,
	},
	{
		RoleNotCarried, Note, "role not carried", "The pairing does not carry people of this role.",
		"Nothing to do, or add the role to the pairing's policy.", OwnerNobody,
	},
	{
		SecondAccount, Note, "second account of a person already in",
		"This register record is the second account of a member of staff who is already in the section.",
		"Nothing to do: left out on purpose.", OwnerNobody,
	},
	{
		LeftOutByRule, Note, "left out by a rule",
		"A rule of the interface leaves this person out on purpose. The rule's name stands beside the finding.",
		"Nothing to do, or change the rule: kanban matching edit.", OwnerNobody,
	},
	{
		Reverted, Note, "to be reverted", "An earlier run changed this; what it did is undone.", "Nothing to do.",
		OwnerNobody,
	},
	{
		ChangedSince, Note, "no longer as the run left it",
		"The service no longer has what the run did, so there is nothing to revert.", "Nothing to do.", OwnerNobody,
	},
	{
		PersonDisabled, Note, "disabled in the register", "The register marks this person as disabled.",
		"Nothing to do, or enable the person in the register.", OwnerRegister,
	},
	{
		NotOurs, Note, "added at the service by someone else",
		"This member of the target was not put there by Kanban.",
		"Nothing to do: left alone. A pairing can be set to own the whole target.", OwnerNobody,
	},
	{
		AddressMissing, Block, "no e-mail address",
		"The register has no e-mail address for this person, and the service needs one to make an account.",
		"Enter the address in the register. The next run adds this person, and whatever waits for the address goes on by itself after the next read.", OwnerRegister,
	},
	{
		AddressInvalid, Block, "e-mail address is not valid",
		"The e-mail address in the register cannot be delivered to.",
		"Correct the address in the register. The next run adds this person.", OwnerRegister,
	},
	{
		AddressShared, Block, "e-mail address shared by two people",
		"Two people in the register have the same e-mail address, so it is not clear which account is whose.",
		"Give each person an address of their own in the register. The next run adds them.", OwnerRegister,
	},
	{
		TwoCandidates, Block, "two accounts could be this person",
		"More than one account at the service matches this person. Kanban never guesses.",
		"Merge the accounts at the service, or choose the right one by hand.", OwnerAdministrator,
	},
	{
		AccountTaken, Block, "account already belongs to someone else",
		"The account that matches this person is already kept for another person.",
		"Correct the e-mail address or user name of one of the two in the register.", OwnerRegister,
	},
	{
		IdentityMixed, Block, "account carries two people",
		"The account at the service carries this person's identifier and somebody else's name and address. Neither is written over, and the other person is not put in through it.", "Set the account right at the service: give it the identifier of the person whose name it carries, or the name and address of this one.", OwnerService,
	},
	{
		RefusedByService, Block, "refused by the service",
		"The service refused this person. Its own words are shown beside the finding.",
		"Follow the service's message, then run this person again.", OwnerService,
	},
	{
		NotArrived, Block, "sent, but not there afterwards",
		"The service accepted the change, but reading it back shows that it is not there.",
		"Run again; if it stays, ask the service's administrator.", OwnerService,
	},

	{
		RowMalformed, Warn, "record could not be read",
		"A record of the register lacks a required value or has one of the wrong form. All other records were read.",
		"Correct the record in the register and read again.", OwnerRegister,
	},
	{
		RowDuplicate, Warn, "record given twice",
		"The register gave two records with one identifier. The last one was taken.",
		"Remove one of the records in the register.", OwnerRegister,
	},
	{
		ReferenceUnknown, Warn, "refers to something unknown",
		"A record of the register refers to a record that the register does not hold. It was left out.",
		"Correct the reference in the register and read again.", OwnerRegister,
	},
	{
		ReferenceDeleted, Warn, "refers to a deleted record",
		"A record of the register refers to a person, section or course that the register marks as deleted. It was left out.", "End the enrolment in the register, or bring back what it refers to.", OwnerRegister,
	},
	{
		DatesReversed, Warn, "ends before it begins",
		"The last day of a record of the register is before its first day. It was left out.",
		"Correct the dates in the register and read again.", OwnerRegister,
	},
	{
		RoleUnknown, Warn, "role not known to the standard",
		"An enrolment of the register has a role that the standard does not know. A new enrolment is read as it stands, and no pairing carries it unless its policy names it; one that is known keeps the role that it had.", "Correct the role in the register, or name it ext:… there.", OwnerRegister,
	},
	{
		StatusUnknown, Warn, "status not known to the standard",
		"A record of the register has a status that is neither active nor tobedeleted. It was left as it was before.",
		"Correct the status in the register and read again.", OwnerRegister,
	},
	{
		ReadIncomplete, Block, "part of the register could not be read",
		"A part of the register could not be read so that nobody knows which records it holds. What could be read went in; nothing of this kind was ended, not even who has left.", "Correct the place named beside the finding in the register, and read again: then those who have left are ended.", OwnerRegister,
	},
	{
		StillReferred, Warn, "no longer listed, but referred to",
		"The register no longer lists a record that its other records still refer to. It was kept as it was.",
		"List the record again in the register, or end what refers to it.", OwnerRegister,
	},
	{
		IdentifierShared, Warn, "identifier shared by two people",
		"Two people in the register have one identifier, so it is not clear whose account is whose.",
		"Give each person an identifier of their own in the register.", OwnerRegister,
	},
	{
		FilePassedOver, Note, "file passed over", "The package holds a file that Kanban does not read.",
		"Nothing to do.", OwnerNobody,
	},
	{
		RegisterShrunk, Block, "register lost most of its records",
		"This read would remove more of the mirror than the guard allows. Nothing was changed.",
		"Check the register. If it is right, read again with the guard lifted.", OwnerAdministrator,
	},
	{
		ColumnUnknown, Note, "column not known to the standard",
		"A file of the register has a column that the standard does not know. It was passed over.",
		"Nothing to do, or name the column metadata.… in the export.", OwnerRegister,
	},
	{
		PackageUnreadable, Block, "not a package that can be read",
		"The file is not a OneRoster CSV package: a ZIP with manifest.csv and the files that it promises. Nothing was changed.", "Make the export again, as OneRoster 1.2 or 1.1 CSV, and upload it whole.", OwnerRegister,
	},
	{
		EnrolmentDuplicate, Note, "enrolled twice in one section",
		"The register enrols this person twice in one section. They are treated as enrolled once.",
		"Remove one of the enrolments in the register.", OwnerRegister,
	},

	{
		LinkTwice, Block, "linked already", "A section can be in one linked set only, once.",
		"Unlink the other set first.", OwnerAdministrator,
	},
	{
		SectionGone, Block, "no longer in the register",
		"The section vanished from the register. Its pairing does nothing by itself, so that nobody is taken out by mistake.", "If it is over, end its pairing; otherwise bring the section back in the register and read again.", OwnerAdministrator,
	},
	{
		SectionEnded, Block, "section has ended", "The last day of the section's terms has passed.",
		"Choose a section whose term is running or to come.", OwnerAdministrator,
	},
	{
		SectionEmpty, Warn, "nobody is enrolled",
		"The register enrols nobody in this section yet. It can be paired; a run would make an empty class.",
		"Enrol its people in the register, or go on.", OwnerRegister,
	},
	{
		TermEnds, Warn, "term ends soon",
		"The term of these sections comes to its end, and their classes with it: nothing happens in them by itself any more after its last day.", "Move the classes to the sections that follow, under Next term (kanban pairings next-term). It is said from 60 days before, and needs a person from 14 days before.", OwnerAdministrator,
	},
	{
		TermOver, Block, "term is over",
		"The section's last day has passed while its pairing goes on. It does nothing by itself any more.",
		"Move the class to the next term's section (kanban pairings next-term), or end the pairing and keep its people or take them out.", OwnerAdministrator,
	},
	{
		OtherCourse, Block, "of another course", "Only sections of one course can be linked.",
		"Choose sections of one course, or say why these are to be linked all the same.", OwnerAdministrator,
	},
	{
		OtherTerm, Block, "in another term",
		"Only sections of the same terms can be linked, and a class follows the section of its own term.",
		"Choose sections of the same terms, or say why these are to be linked all the same.", OwnerAdministrator,
	},
	{
		AlreadyPaired, Block, "paired already",
		"The section has a class at this service already; it can have one at each service.",
		"End that pairing first, or use it.", OwnerAdministrator,
	},
	{
		GroupLeft, Note, "group left over",
		"A group inside the class was for a section that is no longer of the set, or the pairing ended. Kanban does nothing with it any more.", "See whether anybody is in it, and remove it when it is empty, under Linked sets (kanban sections groups).", OwnerAdministrator,
	},
	{
		DetailMissing, Warn, "the service wants to know more of the class",
		"The service has an attribute for the level, subject, first or last day of a class, and neither the register nor the template says it.", "Say it once for all of them: --detail level=… in the command line, or in the preview in the console; or let the register say it.", OwnerAdministrator,
	},
	{
		OtherSection, Note, "in another section's class",
		"By the register this person is in another section, and yet sits in this class. Kanban did not put them in and leaves them there.", "If they moved, the register has to say so; the next read brings them in step. If not, take them out of the class at the service.", OwnerRegister,
	},
	{
		TargetPaired, Block, "class already paired",
		"The class at the service is kept in step with another section already. Two would take each other's people out.", "Choose another class, or link the sections.", OwnerAdministrator,
	},
	{
		TargetNotEmpty, Block, "class must be empty",
		"The interface says that only an empty class can be paired at this service, and this one has members.",
		"Empty the class at the service, or pair with a new one.", OwnerService,
	},
	{
		TargetStrangers, Warn, "class holds other people",
		"Members of the class match nobody in the section. They are left alone unless the pairing owns the whole class.", "Check that it is the right class.", OwnerAdministrator,
	},
	{
		TargetTooSmall, Block, "more people than the service allows",
		"The interface says how many members a class may have, and the section has more.",
		"Link fewer sections, carry fewer roles, or raise the limit on the interface.", OwnerService,
	},
	{
		PoorOverlap, Warn, "few people in common",
		"Fewer than half of the class's members are in the section. It may be another class.",
		"Check the name, the term and the people before pairing.", OwnerAdministrator,
	},
	{
		NameTaken, Warn, "name used twice",
		"Another class has this name, or would have it. People could not tell them apart.",
		"Add the section's code, term or teacher to the template.", OwnerAdministrator,
	},
	{
		NameUnfit, Block, "name cannot be used", "The template gives an empty name, or one that is too long.",
		"Correct the template, or enter a name.", OwnerAdministrator,
	},

	{
		Unreachable, Block, "service cannot be reached", "No answer came from the service's address.",
		"Check the address and that the service is running, then test the interface again.", OwnerService,
	},
	{
		WrongCredential, Block, "credential refused", "The service is there but does not accept the credential.",
		"Enter the credential again, or ask for a new one at the service.", OwnerAdministrator,
	},
	{
		NotAllowed, Block, "not allowed", "The credential is right but does not carry the right to do this.",
		"Ask the service's administrator to grant the right that is named beside the finding.", OwnerService,
	},
	{
		NotThere, Warn, "nothing at this address",
		"The service answers, and says that there is nothing at the address or path that was called (404): the address is wrong, or what it named is gone.", "Correct the address of the interface, or the path of the operation; or see whether what it named was removed at the service.", OwnerAdministrator,
	},
	{
		NotEnabled, Warn, "not enabled at the service", "The service says that it does not offer this.",
		"Ask the service's administrator to switch it on, or do without it.", OwnerService,
	},
	{
		Broken, Block, "service answers with an error", "The service answered in a way that cannot be used.",
		"Try again later; if it stays, ask the service's administrator and give them the answer shown.",
		OwnerService,
	},
	{
		StatementWaits, Warn, "reported, and nothing follows",
		"A platform reported something about people, activities or accounts that are not known here. It has been kept for more than a day, and counts as soon as they are known.", "Enrol the person, set the course's outline, or enter the home page of the platform's accounts on its interface; what was reported then counts by itself.", OwnerAdministrator,
	},
	{
		SubscriptionEnded, Block, "service takes no more events",
		"The service answered that it takes no more events at this address (410). Its interface was paused, so that it is sent nothing more; what is still to come waits.", "Ask the service whether that was meant. Enter the new address, resume the interface and try its deliveries again, or give them up.", OwnerService,
	},
	{
		SignatureRefused, Warn, "reports with a wrong signature",
		"Requests came to the address of this service that are not signed with its secret, or are older than five minutes. Nothing of them was taken.", "Compare the signing secret on both sides, and the service's clock. While the service changes over, enter its former secret as the earlier one. If the service knows nothing of them, somebody else tries the address: nothing is to be done.", OwnerService,
	},
	{
		EventUnusable, Warn, "reported events that cannot be used",
		"The service reported events that cannot be used. They were refused, each with the reason; all others were taken.", "Let the service correct what the reason names, and send the events again.", OwnerService,
	},
	{
		ServiceResting, Block, "service keeps failing and rests",
		"The service failed again and again, or asked to be left alone. Its deliveries wait; one of them finds out now and then whether it works again.", "Mend the service, then test the interface: a test that succeeds ends the rest at once. So does trying a delivery again by hand.", OwnerService,
	},
	{
		OperationResting, Block, "refused the same way again and again",
		"The service refused the same operation in the same words many times in a row. Deliveries that need it wait; a test of the service does not wake them.", "Mend the cause that the service names (a label or group that is gone, a right that is missing), then try one of the deliveries again.", OwnerService,
	},
	{
		Throttled, Warn, "service asks us to slow down", "The service limits how often it may be called.",
		"Nothing to do: Kanban waits as long as the service asks.", OwnerNobody,
	},
	{
		PreviewMoved, Block, "things changed since the preview",
		"One of the two sides changed after the preview was made, so nothing was applied.",
		"Look at the new preview and run that one.", OwnerAdministrator,
	},
	{
		RunFailed, Block, "run stopped", "The run could not go on. What it had done is kept; nothing was lost.",
		"See the cause on the run, mend it and start the run again.", OwnerAdministrator,
	},
	{
		RemovalGuard, Block, "would remove too many",
		"The run would take more people out of the target than the pairing's guard allows.",
		"Check the section in the register. If it is right, run again with the removal approved.",
		OwnerAdministrator,
	},
	{
		TargetGone, Block, "class deleted at the service",
		"The class that this pairing keeps in step was deleted at the service. Nothing was changed.",
		"Make it anew (kanban pairings renew), or end the pairing.", OwnerAdministrator,
	},
	{
		TakeOverOffered, Warn, "places that nobody minds",
		"These people are in the section and in the class, and Kanban did not put them into the class. When they leave the section they stay in the class.", "Take them over, so that they leave the class when they leave the section (kanban pairings take-over SECTION). Or leave them to whoever put them in (kanban pairings take-over SECTION --leave).", OwnerAdministrator,
	},
	{
		TargetRenamed, Note, "class renamed at the service",
		"Somebody gave the class another name at the service. It is still the same class, and its people are kept in step.", "Nothing to do, or give it one name again: kanban pairings edit --target.", OwnerNobody,
	},
	{
		DeliveryWaiting, Block, "delivery waits for a person", "Every try to deliver this failed.",
		"Mend the cause shown on the delivery and retry it.", OwnerAdministrator,
	},
	{
		NotTried, Note, "rule was not tried out",
		"No trial of the rule as it is now was passed: nobody has seen yet what it does.",
		"Try it: kanban rules try NAME. Or switch it on all the same: kanban rules on NAME --untried.",
		OwnerAdministrator,
	},
	{
		InACircle, Warn, "would set itself off again",
		"What the rule does sets off other rules, and in the end itself, for the same person.",
		"Change a condition on the way, so that it ends; the message names the way. Or switch it on all the same: kanban rules on NAME --circle. A chain stops after five events.", OwnerAdministrator,
	},
	{
		ChainStopped, Block, "chain of rules was stopped",
		"Rules set each other off: each of the last five events about this person came about by what a rule had done.", "See which rules are on the way (kanban rules checklist NAME) and change a condition so that it ends. Trying the delivery again goes one step further; giving it up ends it.", OwnerAdministrator,
	},
	{
		NeededGone, Block, "what a rule needs is gone",
		"A label, group or operation that the rule names is not at the service any more. Its deliveries will wait.",
		"Make it at the service again, or choose another one in the rule. What waits goes on by itself once it is found; it is looked for daily, and at once when somebody asks for it: kanban rules check-now.", OwnerService,
	},
	{
		RecordsProposed, Note, "second accounts or test learners, it seems",
		"Records of the register look like second accounts of people who are there already, or like test learners. Nothing follows from that before somebody says so.", "Look at them and accept or refuse, under Second accounts and test learners of the register (kanban matching proposals REGISTER).", OwnerAdministrator,
	},
	{
		PeopleTwice, Note, "people in two registers, it seems",
		"Records of two registers look like one person's. Until somebody says so they are two people: each has sections, progress and badges of their own, and what comes about both is not understood.",
		"Look at them and merge those who are one person, under People, Duplicates (kanban people duplicates).", OwnerAdministrator,
	},
	{
		NotTested, Warn, "test with new values failed",
		"A new credential or address is tested before it replaces one that works, and the test failed.",
		"Correct the values. Or save them all the same: kanban interfaces edit NAME --untested.",
		OwnerAdministrator,
	},
	{
		CredentialEnds, Warn, "credential ends soon",
		"The token, secret or password of the interface stops working on the day that was entered with it.",
		"Get a new one from the service's administrator and enter it with its own last day: kanban interfaces edit NAME --set expires=YYYY-MM-DD. It is tested before it replaces the old one.", OwnerService,
	},
	{
		SignInEnded, Block, "sign-in has ended",
		"The service takes what was granted by signing in there no more: it was withdrawn, or has run out.",
		"Sign in again, on the interface (kanban interfaces sign-in NAME). What waits goes on by itself.",
		OwnerAdministrator,
	},
	{
		SignInPending, Warn, "sign-in waits for a decision",
		"Somebody signed in at the service as another account than before, or what worked would not work with it. Until it is decided the former grant counts.", "Take it (kanban interfaces sign-in NAME --take) or drop it (kanban interfaces sign-in NAME --drop).",
		OwnerAdministrator,
	},
	{
		StillToCome, Note, "deliveries are still to come", "What the rule has set going is not all done.",
		"Say whether it is to be stopped (kanban rules off NAME --stop) or to finish (kanban rules off NAME --finish).",
		OwnerAdministrator,
	},
	{
		ReportNotSent, Block, "a report was not sent",
		"A report that is sent by mail did not reach the mail server for everybody the last time it was due.",
		"Mend the cause that is shown, then send it now (kanban reports mails send ID).", OwnerAdministrator,
	},
	{
		ProgressDiffers, Block, "kept progress differs",
		"The progress that is kept of people, by which reports count, is not what is recorded of their activities.",
		"Count it anew (kanban reports recount); nobody is told by that. If it comes back, report it as a fault.",
		OwnerAdministrator,
	},
	{
		OtherResultCounts, Note, "another result counts",
		"Another result of the same assessment counts for the rule: a later one, say, that came to be known before this one.", "Nothing to do. A rule can say which result counts: latest, best or first.", OwnerNobody,
	},
	{
		ConditionRefused, Block, "condition cannot be used",
		"The rule's condition does not compile, or costs more than the limit.", "Correct the condition of the rule.",
		OwnerAdministrator,
	},
	{
		TemplateIncorrect, Block, "text or mapping cannot be filled in",
		"A template or mapping of the rule refers to something the event does not have.",
		"Correct the template or mapping of the rule.", OwnerAdministrator,
	},
	{
		GroupMissing, Block, "group does not exist", "The service has no group of this name, or several.",
		"Make the group at the service, or correct its name in the rule, then try the delivery again.", OwnerService,
	},
	{
		AccountMissing, Block, "no account at the service",
		"No account at the service was recognised as this person's, and none can be made.",
		"Enter the person's address in the register, or choose the account by hand.", OwnerRegister,
	},
	{
		NotSuccess, Block, "answered, but not with success",
		"The service answered, and the operation's success condition says that it did not do what was asked.",
		"Read the answer beside the delivery; mend the cause at the service or correct the condition.",
		OwnerService,
	},
	{
		OperationGone, Block, "operation no longer defined",
		"The rule calls an operation that the interface does not define any more.",
		"Define the operation on the interface again, or change the rule.", OwnerAdministrator,
	},
	{
		CannotRevert, Note, "cannot be reverted",
		"What this action did stays done: a mail is read, a badge is a person's decision, a row stays in its sheet.",
		"Nothing to do, or put it right by hand.", OwnerNobody,
	},
	{
		Reversed, Warn, "completion reversed, what it gave stays",
		"A completion holds no longer: a result was voided, or the outline was changed. What a rule did because of it is still there.", "Undo it by hand: revoke the badge (kanban badges revoke), take the label off. Or leave it and acknowledge this. A rule reverts by itself what it did when it says so, under Reverted by in its form (kanban rules add --undone-by).", OwnerAdministrator,
	},
	{
		TaskOpen, Warn, "something to do", "A rule opened a task for a person.",
		"Do it, then mark it as done: kanban tasks done.", OwnerAdministrator,
	},

	{
		AccessNoEnrolment, Block, "access without enrolment",
		"Somebody has access to the section, by a purchase or a membership, and is not enrolled in it.",
		"See the delivery that should have enrolled them, mend its cause and try it again.", OwnerAdministrator,
	},
	{
		EnrolmentNoAccess, Warn, "enrolment without access",
		"Somebody is enrolled in the section although their access has ended, or only buyers may be in it.",
		"Take them out of the section, or give them access.", OwnerAdministrator,
	},
	{
		BuyerUnknown, Block, "buyer is not known",
		"It is not known who bought this: nobody in the register has the address and no account can be made, or the service gave no address at all.", "Say whose it is, under Access (kanban offers accesses --troubled --ids, then kanban offers assign ID PERSON). Or enter the person in the register with the address; the next read enrols them.", OwnerAdministrator,
	},
	{
		BuyerAmbiguous, Block, "several people have the buyer's address",
		"Something was bought under an address that more than one person in the register has, so it is not clear whose it is. Nobody is enrolled for it.", "Say whose it is, under Access (kanban offers accesses --troubled --ids, then kanban offers assign ID PERSON).", OwnerAdministrator,
	},
	{
		OfferUnknown, Warn, "offer not mapped",
		"Something was bought for which no offer says which sections it gives access to.",
		"Make an offer for it: kanban offers add.", OwnerAdministrator,
	},
	{
		OfferNoSection, Block, "offer leads to no section",
		"The offer's course has no section in the term that the offer asks for.",
		"Open a section in the register, or choose sections by hand.", OwnerAdministrator,
	},
}
