package finding

// scoreCatalogue has what can be said about scores, assignments and the links through which scores are carried.
var scoreCatalogue = []Entry{
	{
		ScoreNew, Note, "new in the book", "The score is final at the source, and the book has none yet.",
		"The next run writes it.", OwnerNobody,
	},
	{
		ScoreChanged, Note, "changed at the source",
		"The score was carried before and is another one at the source now. Nobody has changed it in the book.",
		"The next run updates it.", OwnerNobody,
	},
	{ScoreSame, Note, "in step", "The source and the book have the same score.", "Nothing to do.", OwnerNobody},
	{
		ScoreHandedOver, Note, "handed over, not proven",
		"The score was put into a package for the book, and no package from the book has been read since.",
		"Upload a package from the book to see whether it arrived.", OwnerAdministrator,
	},
	{
		ScoreReplaced, Warn, "replaces the book's value",
		"The score link replaces whatever the book has, and the book has another value.",
		"Look at the values that would be lost before you run it.", OwnerAdministrator,
	},
	{
		ScoreDecided, Note, "decided", "Somebody decided which of both values counts. That holds until either changes.",
		"Nothing to do.", OwnerNobody,
	},
	{
		ScoreBlanksOnly, Note, "the book has a value", "The score link fills blanks only, and the book has a value.",
		"Nothing to do, or choose another way to treat values that differ.", OwnerAdministrator,
	},
	{
		ScoreUnmarked, Note, "not marked yet", "Nothing was marked yet, whether or not work was handed in.",
		"It is carried once it is marked and final.", OwnerTeacher,
	},
	{
		ScoreDraft, Note, "still a draft", "A score was entered at the source and is not final there.",
		"Make it final at the source; learners may see it there then.", OwnerTeacher,
	},
	{
		ScoreDraftOld, Warn, "drafts for weeks", "Scores were entered more than two weeks ago and are still not final.",
		"Make them final where work is marked, or ask whoever marks them.", OwnerTeacher,
	},
	{
		ScorePartly, Note, "partly marked", "Only a part of the work was marked at the source.",
		"It is carried once all of it is marked.", OwnerTeacher,
	},
	{
		ScoreUnreleased, Note, "not released yet", "The score is marked to the end, and the date of its release has not come.",
		"It is carried once it is released at the source.", OwnerTeacher,
	},
	{
		ScoreNotGiven, Note, "not given to them", "The assignment was not given to this learner.", "Nothing to do.",
		OwnerNobody,
	},
	{
		ScoreMoved, Warn, "moved to another section",
		"The learner is in another section now. What was carried stays with the section that they left.",
		"If the score counts in the new section too, let it go on there.", OwnerTeacher,
	},
	{
		ScoreNotInBook, Warn, "not in the book's class",
		"The source has a score of somebody who does not learn in the book's class, by the register.",
		"Enrol them in the register, or leave it if they have left.", OwnerRegister,
	},
	{
		ScoreOfUnknown, Warn, "nobody knows whose", "The source has a score of somebody whom the register does not know.",
		"Say whose score it is; nobody is guessed.", OwnerAdministrator,
	},
	{
		ScoreLocked, Warn, "locked in the book", "The book takes no change of this score now.",
		"Have it unlocked in the book.", OwnerService,
	},
	{
		ScoreNothingToCarry, Note, "nothing to carry",
		"Of this score nothing is left that is carried: its value is blank by the score link's rules, and the book cannot hold what is said beside it.",
		"Nothing to do, or change what becomes of scores with this flag.", OwnerAdministrator,
	},
	{
		ScoreNotRead, Warn, "not read", "Not all scores of the assignment could be read, and this one is not among those that were.",
		"Look at the source; nothing in the book is changed because of it.", OwnerService,
	},
	{
		ScoreVanished, Warn, "vanished at the source",
		"The score was carried before and is not at the source any more, which never said that it was deleted.",
		"Nothing in the book is changed. Look why it is missing at the source.", OwnerTeacher,
	},
	{
		ScoreDeleted, Warn, "deleted at the source", "The source says that the score was deleted. The book still has it.",
		"Delete it in the book too, or leave it there.", OwnerTeacher,
	},
	{
		ScoreInBookOnly, Note, "only in the book", "The book has a score of which the source knows nothing.",
		"Nothing to do: it is never touched.", OwnerNobody,
	},
	{
		ScoreOthersInBook, Warn, "the book has another value",
		"The book has a value that Kanban did not carry, and the source has another one.",
		"Decide which of both counts.", OwnerTeacher,
	},
	{
		ScoreChangedInBook, Warn, "changed in the book", "Somebody changed the score in the book after it was carried.",
		"Decide which of both counts.", OwnerTeacher,
	},
	{
		ScoreEmptiedInBook, Warn, "emptied in the book", "Somebody took the score out of the book after it was carried.",
		"Decide whether it is to be there.", OwnerTeacher,
	},
	{
		ScoreTwice, Block, "two scores for one person", "One side has two scores of one person for one assignment.",
		"Have one of them removed there.", OwnerTeacher,
	},
	{
		ScoreUnreadable, Block, "not a number", "The score at the source is no number that can be read.",
		"Correct it at the source.", OwnerTeacher,
	},
	{
		ScoreNegative, Block, "below zero", "The score at the source is below zero.", "Correct it at the source.",
		OwnerTeacher,
	},
	{
		ScoreOverMaximum, Block, "above the maximum",
		"The score is above what the assignment is worth, and the book takes no such scores.",
		"Correct the score or the maximum at the source, or declare that the book takes it.", OwnerTeacher,
	},
	{
		ScoreNotScalable, Block, "cannot be scaled", "One side says that the assignment is worth no points, so that the score cannot be brought to the other's.",
		"Correct the maximum at the side that has none.", OwnerTeacher,
	},
	{
		ScoreTextUnmapped, Block, "a word without a value",
		"The score is a word that stands for no points, and the book takes no words.",
		"Give the word a value in the score scale at the source, or enter points.", OwnerTeacher,
	},
	{
		ScoreNotDeletable, Warn, "cannot be made blank",
		"The book had no score before, and does not grant deleting, so that it cannot be made blank again.",
		"Delete it in the book, or have deleting granted to Kanban's client.", OwnerService,
	},
	{
		ScoreKeptOtherwise, Warn, "the book keeps another value",
		"The book took the score and has another value than was sent: it rounds, cuts or changes it.",
		"Declare what the book can hold at its interface, such as its decimals, and look at a new preview.",
		OwnerAdministrator,
	},
	{
		BookNotRead, Warn, "what the book has is not known",
		"What the book has of this score could not be read, so nothing is written over it.",
		"Have the score corrected in the book, or read the book again.", OwnerService,
	},
	{
		ItemNotReady, Warn, "the assignment is not ready", "The assignment cannot be carried yet; its reasons say why.",
		"Mend what its reasons say.", OwnerTeacher,
	},
	{
		ItemLeftOut, Note, "left out on purpose", "Somebody left the assignment out, with a note.",
		"Take it in again if it is to be carried.", OwnerTeacher,
	},
	{
		ItemWithoutScores, Note, "no scores are carried", "Of this assignment no scores are carried, by what was set for it.",
		"Nothing to do.", OwnerNobody,
	},
	{
		ItemTermGrade, Note, "a term grade", "It is a term or report grade, which is never touched.", "Nothing to do.",
		OwnerNobody,
	},
	{
		ItemGoneAtSource, Warn, "gone at the source", "The assignment is not at the source any more.",
		"Nothing in the book is changed. Leave it out, with a note, if that is right.", OwnerTeacher,
	},
	{
		ItemGoneInBook, Warn, "gone in the book", "The line item that the assignment is linked to is not in the book any more.",
		"Unlink it; then it can be made again or linked to another one.", OwnerTeacher,
	},
	{
		ItemNotDue, Block, "no due date", "The book wants a due date, and the assignment has none.",
		"Enter a due date at the source, or let its assigned date count.", OwnerTeacher,
	},
	{
		ItemOutsidePeriod, Block, "outside the grading periods",
		"The assignment's date lies in none of the grading periods that count.",
		"Correct the date at the source, let the other date count, or choose the period by hand.", OwnerTeacher,
	},
	{
		ItemNoPeriod, Block, "no grading period", "The book wants a grading period, and the register has none of the kind that counts for this section.",
		"Choose another kind of period for the score link, or choose the period by hand.", OwnerAdministrator,
	},
	{
		ItemPeriodUnclear, Block, "in several grading periods",
		"The assignment's date lies in more than one grading period of the kind that counts.",
		"Choose the period by hand.", OwnerAdministrator,
	},
	{
		ItemBeforeTerm, Block, "before the term", "The assignment's date lies before the term, which the book does not take.",
		"Correct the date at the source.", OwnerTeacher,
	},
	{
		ItemWithoutPoints, Block, "worth no points", "The assignment is worth no points.",
		"Give it points at the source, or let assignments without points be carried.", OwnerTeacher,
	},
	{
		ItemNoCategory, Block, "no category", "The book wants a category, and none is settled for the assignment.",
		"Choose a category, or let missing ones be made in the book.", OwnerAdministrator,
	},
	{
		ItemCategoryOther, Warn, "in another category", "The line item in the book is in another category than the one that is settled.",
		"Correct the category in the book, or choose that one for the assignment.", OwnerTeacher,
	},
	{
		ItemNotLinked, Block, "not linked", "The book takes no new assignments, and this one is linked to none that it has.",
		"Make it in the book and link it.", OwnerTeacher,
	},
	{
		ItemNameTaken, Block, "already in the book", "The book has an assignment of this title that is linked to none.",
		"Link it, if it is the same; else give one of them another title.", OwnerTeacher,
	},
	{
		ItemUnpublished, Block, "not published", "Learners do not see the assignment at the source yet.",
		"Publish it at the source.", OwnerTeacher,
	},
	{
		ItemBookUnreleased, Block, "not published in the book", "Learners do not see the assignment in the book yet.",
		"Publish it in the book.", OwnerTeacher,
	},
	{
		ItemTitleTooLong, Block, "title too long", "The title is longer than the book takes.", "Shorten it at the source.",
		OwnerTeacher,
	},
	{
		ItemUnreadable, Block, "cannot be understood", "A value of the assignment, such as a date or its points, cannot be understood.",
		"Correct it at the side that has it.", OwnerTeacher,
	},
	{
		GradebooksDiffer, Warn, "set up differently",
		"Both gradebooks weigh categories or read scores in words differently, or not as it is expected.",
		"Look at both values in the set-up of the score link, and change one side or what is expected.", OwnerTeacher,
	},
	{
		ScoreLinkTwice, Block, "carried already", "Another score link, or another assignment, is carried into the same place.",
		"Change that one, or end it.", OwnerAdministrator,
	},
	{
		ScoreCircle, Block, "a circle of score links", "Scores would come back to the class in which they were marked.",
		"Choose another source or another book.", OwnerAdministrator,
	},
	{
		BookNotOpen, Block, "the book is closed", "The book takes scores only between two dates, and today is not among them.",
		"Wait until it opens, or have the dates corrected at its interface.", OwnerService,
	},
	{
		PeriodFinal, Note, "the period is final", "Somebody declared the grading period final: nothing is carried into it.",
		"Open the period again if something is still to be carried.", OwnerAdministrator,
	},
}
