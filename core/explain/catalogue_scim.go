package explain

// catalogueSCIM holds what can fail where accounts are kept in step. Nobody signs in there, so that no person reads of it.
var catalogueSCIM = []Explanation{
	{
		Code:  SCIMUnreachable,
		Title: "The application's accounts can't be reached",
		Cause: "{partner} did not answer a request about its accounts: {got}.",
		Remedy: "Is the base address right, and may the gate reach it? What is to be sent waits and is sent by itself once the " +
			"application answers again; nothing is lost.",
		Theirs: "Your SCIM service does not answer us. Is it up, and reachable from our address?",
		Side:   Either, Person: laterPerson, Again: true, Status: responder,
	},
	{
		Code:   SCIMNoSecret,
		Title:  "No token for the application's accounts is entered",
		Cause:  "The gate has nothing with which to prove itself to {partner}.",
		Remedy: "Have the application's administrator make a token, and enter it on the station accounts.",
		Theirs: "Please make a token for our SCIM client and send it to us by a safe way.",
		Side:   Ours, Person: laterPerson, Status: responder,
	},
	{
		Code:  SCIMTokenRefused,
		Title: "The application refuses the gate's token",
		Cause: "{partner} answered with the status {got}: the token is unknown, over, or may not do this.",
		Remedy: "Have a new token made, enter it as the next one, try it, and switch to it. What is to be sent waits until then; it is " +
			"tried again by itself from time to time.",
		Theirs: "Your SCIM service refuses our token. Is it over, and may it read and write users and groups?",
		Side:   Either, Person: laterPerson, Again: true, Status: responder,
	},
	{
		Code:  SCIMBusy,
		Title: "The application asks for a pause",
		Cause: "{partner} answered that it is asked too much, or is not ready now ({got}).",
		Remedy: "The gate waits as long as the application says, and goes on by itself. Where it happens often, set fewer requests a " +
			"minute on the station accounts.",
		Theirs: "Your SCIM service limits us. How many requests a minute may we make?",
		Side:   Theirs, Person: laterPerson, Again: true, Status: responder,
	},
	{
		Code:  SCIMUnreadable,
		Title: "The application's answer is not what SCIM says",
		Cause: "What {partner} answered can't be taken: {got}.",
		Remedy: "Look at the answer in the account's history. Often the address is that of a page for people, or a proxy answers in " +
			"place of the application.",
		Theirs: "Your SCIM service answers with something that is no SCIM message (RFC 7644). Please look at the answer that we send " +
			"along.",
		Side: Theirs, Person: laterPerson, Again: true, Status: responder,
	},
	{
		Code:   SCIMNoService,
		Title:  "There is no SCIM service at this address",
		Cause:  "{partner} knows no users at its base address: {got}.",
		Remedy: "Ask for the base address; /Users must be right behind it.",
		Theirs: "Which is the base address of your SCIM service?",
		Side:   Ours, Person: laterPerson, Status: responder,
	},
	{
		Code:  SCIMTaken,
		Title: "The application has such an account already",
		Cause: "{partner} has an account {got} already, and it is not known to be this person's.",
		Remedy: "Look at it there. If it is this person's, adopt it; if it is somebody else's, give one of them another user name. " +
			"Nothing is taken over unasked.",
		Theirs: "Whose is the account {got}?",
		Side:   Either, Person: laterPerson, Status: responder,
	},
	{
		Code:   SCIMMapping,
		Title:  "The mapping gives no value that can be sent",
		Cause:  "A rule of the mapping of accounts of {partner} gives nothing that fits: {got}.",
		Remedy: "Change the rule, or the person's value, on the station accounts.",
		Side:   Ours, Person: laterPerson, Status: responder,
	},
	{
		Code:  SCIMValue,
		Title: "The application refuses a value",
		Cause: "{partner} does not take what was sent: {got}.",
		Remedy: "The application's own words say which value. Change the rule that makes it, or the person's value; then it is sent " +
			"again by itself.",
		Theirs: "Your SCIM service refuses a value. Which values does the attribute take?",
		Side:   Either, Person: laterPerson, Status: responder,
	},
	{
		Code:   SCIMRefused,
		Title:  "The application refuses the request",
		Cause:  "{partner} answered with {got}.",
		Remedy: "Look at the request and the answer in the account's history, and ask the application's side.",
		Theirs: "Your SCIM service refuses a request of ours; please look at it in your log.",
		Side:   Either, Person: laterPerson, Status: responder,
	},
	{
		Code:   SCIMFailed,
		Title:  "The application failed",
		Cause:  "{partner} answered that something went wrong on its side: {got}.",
		Remedy: "It is tried again by itself, with growing pauses. Where it stays, send the application's side the request.",
		Theirs: "Your SCIM service fails at a request of ours; please look at it in your log.",
		Side:   Theirs, Person: laterPerson, Again: true, Status: responder,
	},
	{
		Code:   SCIMMeanwhile,
		Title:  "The account was changed there meanwhile",
		Cause:  "Somebody else changed the account at {partner} between reading and writing it.",
		Remedy: "It is read and compared again by itself.",
		Side:   Either, Person: laterPerson, Again: true, Status: responder,
	},
	{
		Code:  SCIMOtherAccount,
		Title: "The application answered about another account",
		Cause: "{partner} was asked about {expected} and answered about {got}. Nothing of it was taken.",
		Remedy: "This must not happen. Look at the answer in the account's history, and have the application's side explain it before " +
			"anything else is sent.",
		Theirs: "Your SCIM service answers about another account than the one that was asked for.",
		Side:   Theirs, Person: laterPerson, Status: responder,
	},
	{
		Code:  SCIMFilter,
		Title: "The application does not look for what it is asked",
		Cause: "{partner} was asked for accounts with one external identifier, and answered with others: {got}.",
		Remedy: "It ignores the filter. Compare all accounts, so that those that are there are known, and have the application's side " +
			"mend it: without it, an account could be made twice.",
		Theirs: "Your SCIM service ignores the filter externalId eq (RFC 7644, section 3.4.2.2).",
		Side:   Theirs, Person: laterPerson, Status: responder,
	},
	{
		Code:   SCIMSeveral,
		Title:  "The application has several accounts of one person",
		Cause:  "Several accounts at {partner} have the same external identifier: {got}.",
		Remedy: "Have all but one taken away there. Until then nothing is sent for this person.",
		Theirs: "Several of your accounts have the same externalId; please keep one.",
		Side:   Theirs, Person: laterPerson, Status: responder,
	},
	{
		Code:  SCIMTooManyGone,
		Title: "More accounts would be taken away than may be at once",
		Cause: "At {partner}, {got} accounts would be deactivated or deleted at once, more than the share that is set.",
		Remedy: "Look at the names. If it is meant, agree to it on the station accounts; if not, put the assignment right: nothing was " +
			"taken away so far.",
		Side: Ours, Person: laterPerson, Status: responder,
	},
	{
		Code:   SCIMNotCompared,
		Title:  "The accounts were not compared yet",
		Cause:  "Nobody has looked which accounts {partner} has already, so that nothing is sent.",
		Remedy: "Compare on the station accounts, look at what would be done, and switch sending on.",
		Side:   Ours, Person: laterPerson, Status: responder,
	},
	{
		Code:  SCIMUnkept,
		Title: "The application does not keep a value",
		Cause: "{partner} took {got} and did not keep it.",
		Remedy: "It does not know the attribute, or has its own value for it. Take the rule out of the mapping, or leave it: it is " +
			"not sent again and again.",
		Theirs: "Your SCIM service takes {got} and does not keep it. Is it meant?",
		Side:   Either, Person: laterPerson, Status: responder,
	},
	{
		Code:   SCIMDrift,
		Title:  "The application changed the account by itself",
		Cause:  "At {partner} the account is otherwise than it should be: {got}.",
		Remedy: "Set it right, or accept it: then the value is the application's from now on.",
		Theirs: "Who changes the accounts that we keep in your application?",
		Side:   Either, Person: laterPerson, Status: responder,
	},
}
