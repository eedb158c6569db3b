package explain

const askHelp = "Please ask the person who looks after your account, and give the number below."

// cataloguePeople holds what can fail between a person and an application: matching, admission, access, second factors and the gate's own directory.
var cataloguePeople = []Explanation{
	{Code: "match.several", Title: "Two people match", Cause: "{got} was sent by {partner}, and more than one person has it or something that looks like it.",
		Remedy: "Give each of them a value of their own, or link the right one to the provider by hand. The gate does not guess.", Side: Ours, Person: "Two accounts here could be yours. " + askHelp, Status: responder, Substatus: "RequestDenied"},
	{Code: "match.differs", Title: "The value that came differs a little", Cause: "{partner} sent {got}; a person here has {expected}. They are not the same.",
		Remedy: "Compare the two. If they mean one person, correct the value here or lower-case it in the mapping in; if not, somebody may be posing as another.", Theirs: "You send {got}; we hold {expected}. Which one is right?",
		Side: Either, Person: "Your account here is written a little differently. " + askHelp, Status: responder, Substatus: "RequestDenied"},
	{Code: "match.mail-unverified", Title: "The mail address is not proven", Cause: "{partner} does not say that the mail address is proven (email_verified is {got}), and a person here has this address.",
		Remedy: "Have the provider prove its addresses, link the person by hand, or state in the provider's matching that its addresses count as proven.", Theirs: "Please send email_verified: true for addresses that you have proven.",
		Side: Either, Person: "Your mail address has not been confirmed at the place where you signed in. Please confirm it there, then try again.", Status: responder, Substatus: "RequestDenied"},
	{Code: "match.foreign-domain", Title: "The provider may not speak for this mail domain", Cause: "{partner} sent a mail address at {got} that a person here has; it may speak for {expected}.",
		Remedy: "If the domain belongs to this provider, add it to the provider's matching. Otherwise treat it as an attempt to become somebody else.", Side: Either, Person: "You can't sign in to this account that way. " + askHelp, Status: responder, Substatus: "RequestDenied"},
	{Code: "match.foreign-scope", Title: "The provider may not speak for this identifier", Cause: "{partner} sent an identifier with {got} that a person here has; its scopes are {expected}.",
		Remedy: "If the scope belongs to this provider, add it to the provider's matching. Otherwise treat it as an attempt to become somebody else.", Side: Either, Person: "You can't sign in to this account that way. " + askHelp, Status: responder, Substatus: "RequestDenied"},
	{Code: "match.already-linked", Title: "The person is linked to another subject of this provider", Cause: "{got} is known from {partner} under another identifier already, so this one is not matched by value.",
		Remedy: "If the provider has changed its identifiers, take the old link away on the person's page; then this one is matched. Two links to one provider are never made by themselves.", Side: Ours,
		Person: "Your account here belongs to another sign-in. " + askHelp, Status: responder, Substatus: "RequestDenied"},
	{Code: "match.failed", Title: "A way of matching failed", Cause: "Matching failed: {got}.", Remedy: "Correct the expression in the provider's matching.", Side: Ours, Person: laterPerson, Status: responder},
	{Code: "match.no-lasting-identifier", Title: "There is no identifier that lasts", Cause: "{partner} identifies people by a value that stays the same, and a pass-through sign-in brought none.",
		Remedy: "Have the provider send a lasting identifier, or let the application take a transient one.", Side: Either, Person: laterPerson, Status: responder, Substatus: "InvalidNameIDPolicy"},
	{Code: "admission.incomplete", Title: "The profile was not completed", Cause: "{partner} admits people after they have completed their profile, and asking was not possible.", Remedy: "Nothing to change: the application asked for a silent sign-in.",
		Side: Person, Person: "Your profile has to be completed first. Please start again at the application.", Again: true, Status: responder, Substatus: "NoPassive", OAuth: "interaction_required"},
	{Code: "admission.declined", Title: "The person did not go on", Cause: "The person did not confirm the profile that would have been made.", Remedy: "Nothing to change.", Side: Person, Person: "Nothing was kept of you.", Again: true, Status: responder, Substatus: "RequestDenied"},

	{Code: "access.not-assigned", Title: "The person is not assigned", Cause: "{got} is assigned to {partner} neither by name nor through a group.",
		Remedy: "Assign the person or one of their groups to the application, or open it to everybody.", Side: Ours, Person: "You have no access to this application. Ask its owner to be added.", Status: responder, Substatus: "RequestDenied"},
	{Code: "access.group-required", Title: "A required group did not come", Cause: "{partner} asks for one of the groups {expected}; {got} came from the provider.",
		Remedy: "Have the person put into the group at the provider, or change what the application requires. The trace shows what the mapping made of the groups.", Theirs: "Please send one of the groups {expected} for this person.", Side: Either,
		Person: "You are in none of the groups that this application asks for.", Status: responder, Substatus: "RequestDenied"},
	{Code: "access.refused", Title: "An access rule refuses", Cause: "{got} of {partner} refuses this sign-in.", Remedy: "The trace shows what the rule was asked about, and which rules were passed over. Change the rule if that is not meant.", Side: Ours,
		Person: "The rules of this application don't let you in now.", Status: responder, Substatus: "RequestDenied"},
	{Code: "access.no-rule", Title: "No access rule fits", Cause: "None of the rules of {partner} fits this sign-in, and others are refused.", Remedy: "The trace shows for each rule why it does not fit. Add a rule, or let others in.", Side: Ours,
		Person: "The rules of this application don't let you in.", Status: responder, Substatus: "RequestDenied"},
	{Code: "access.stronger-impossible", Title: "A stronger sign-in is wanted and can't be had", Cause: "{got} of {partner} wants a second factor; the provider gave none, and the person has none at the gate.",
		Remedy: "Have the provider ask for a second factor, say in the provider's options what to ask it for, or have the person enrol one at the gate.", Side: Either, Person: "This application wants a second factor, and you have none here yet. " + askHelp, Status: responder, Substatus: "NoAuthnContext", OAuth: "unmet_authentication_requirements"},

	{Code: "directory.wrong", Title: "Name or password was wrong", Cause: "The sign-in at {partner} was given up after wrong passwords.", Remedy: "Nothing to change. If the person has forgotten it, send a link to set a new one.", Side: Person, Person: "Name or password was wrong.", Again: true, Status: responder, Substatus: "AuthnFailed", OAuth: "access_denied"},
	{Code: "directory.too-many", Title: "Too many wrong tries", Cause: "There were too many wrong tries for {got}.", Remedy: "They are counted for a quarter of an hour. If the person did not make them, somebody is guessing.", Side: Person,
		Person: "There were too many wrong tries. Please wait a quarter of an hour.", Again: true, Status: responder, Substatus: "AuthnFailed", OAuth: "access_denied"},
	{Code: "subject.unfit", Title: "The identifier does not fit the application", Cause: "{partner} can't take the identifier {got}: {expected}.",
		Remedy: "Change the subject rule, or the profile's value. The account check on the application's page shows everybody whom this concerns.", Side: Ours, Person: laterPerson, Status: responder, Substatus: "InvalidNameIDPolicy"},
}
