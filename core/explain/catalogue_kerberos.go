package explain

// goesOn is what somebody reads whose ticket was not taken.
const goesOn = "Your computer's own sign-in was not taken here. Please sign in another way, or ask the people who look after your computer."

// catalogueKerberos holds what can fail with tickets of a Kerberos realm.
var catalogueKerberos = []Explanation{
	{
		Code:  KerberosNoTicket,
		Title: "The browser showed no ticket",
		Cause: "The browser was asked for a ticket of {partner} and showed none: it holds none, or the gate's address is not in its list " +
			"of those to which it shows one.",
		Remedy: "On the person's machine: does klist show a ticket? Is the gate's host in the browser's list of trusted ones? The " +
			"exchange sheet has the settings for each browser. Does the directory know the gate's service name?",
		Theirs:    "Please enter the gate's host into your browsers' lists as the exchange sheet says.",
		Side:      Either,
		Person:    "Your computer did not say who you are. " + askHelp,
		Again:     true,
		Status:    responder,
		Substatus: "NoPassive",
		OAuth:     "login_required",
	},
	{
		Code:  KerberosNTLM,
		Title: "The browser offered NTLM in place of a ticket",
		Cause: "The browser answered {partner} by NTLM ({got}). It does so where it finds no Kerberos ticket " +
			"for the name in its address: " +
			"the machine is in no domain, reaches no domain controller, the address is a number, or the gate's service name is not " +
			"registered, or twice.",
		Remedy: "Look whether exactly one account has the gate's service name (setspn -Q HTTP/HOST), and whether the machine gets a " +
			"ticket for it (klist get HTTP/HOST). NTLM is never taken.",
		Theirs: "Please look whether exactly one account in your domain has our service name (setspn -Q), and whether klist get brings " +
			"a ticket for it on a machine that fails.",
		Side:      Theirs,
		Person:    goesOn,
		Status:    responder,
		Substatus: "AuthnFailed",
		OAuth:     "access_denied",
	},
	{
		Code:      KerberosUnreadable,
		Title:     "What the browser showed is no ticket",
		Cause:     "What came in place of a ticket of {partner} can't be read: {got}.",
		Remedy:    "Look at what stands between the browser and the gate: something may shorten or change the header Authorization.",
		Side:      Either,
		Person:    goesOn,
		Status:    responder,
		Substatus: "AuthnFailed",
		OAuth:     "access_denied",
	},
	{
		Code:  KerberosOtherService,
		Title: "The ticket is for another host name",
		Cause: "The ticket of {partner} is for {got}, and this gate's keytab has {expected}.",
		Remedy: "Have the service name registered for the host that stands in the browser's address, and enter a keytab with its key. " +
			"Browsers ask for the canonical name of a host, where its name is an alias: set them not to, or register both.",
		Theirs:    "Please register {expected} and send us a keytab for it.",
		Side:      Either,
		Person:    goesOn,
		Status:    responder,
		Substatus: "AuthnFailed",
		OAuth:     "access_denied",
	},
	{
		Code:  KerberosKeyVersion,
		Title: "The keytab is of another version than the ticket's key",
		Cause: "The ticket of {partner} was made with {got} of the gate's key; the keytab has {expected}.",
		Remedy: "The key was made anew there, by making a keytab or by setting a password. Enter the new keytab as the next one: both " +
			"count until the tickets of the old one are over. If the keytab is the newer one, the person gets a new ticket by " +
			"signing in at the machine again (klist purge).",
		Theirs:    "Please send us the keytab of the present key of our service name, and don't make another one.",
		Side:      Either,
		Person:    goesOn,
		Status:    responder,
		Substatus: "AuthnFailed",
		OAuth:     "access_denied",
	},
	{
		Code:   KerberosEncryption,
		Title:  "The ticket's encryption is not taken, or the keytab lacks its key",
		Cause:  "The ticket of {partner} is encrypted by {got}; here is {expected}.",
		Remedy: "Let the account with the gate's service name have AES keys, and no others, and enter a keytab with all of them.",
		Theirs: "Please let the account of our service name use AES only (msDS-SupportedEncryptionTypes 24, or -e with AES types), " +
			"and send us its keytab.",
		Side:      Either,
		Person:    goesOn,
		Status:    responder,
		Substatus: "AuthnFailed",
		OAuth:     "access_denied",
	},
	{
		Code:  KerberosWrongKey,
		Title: "The keytab's key does not open the ticket",
		Cause: "The ticket of {partner} was made for {expected}, and the keytab's key of that name and version does not open it: the " +
			"two are not the same key.",
		Remedy: "The keytab is of another account or directory, its password was typed wrong, or the salt differs (the case of a name " +
			"matters). Have the keytab made anew, and look that one account alone has the service name.",
		Theirs:    "Please make the keytab of our service name anew. Is the name registered with one account alone?",
		Side:      Either,
		Person:    goesOn,
		Status:    responder,
		Substatus: "AuthnFailed",
		OAuth:     "access_denied",
	},
	{
		Code:      KerberosTicketOver,
		Title:     "The ticket does not count now",
		Cause:     "The ticket of {partner} counts from {got}; here it is {expected}.",
		Remedy:    "The person locks and unlocks the screen, or signs in at the machine again. If it should count: are all clocks right?",
		Side:      Person,
		Person:    goesOn,
		Status:    responder,
		Substatus: "AuthnFailed",
		OAuth:     "access_denied",
	},
	{
		Code:   KerberosClock,
		Title:  "The clocks are too far apart",
		Cause:  "The clock of the machine that showed the ticket of {partner} is {got} from the gate's; {expected} are borne.",
		Remedy: "Set the clocks of both by the same time servers. The gate's own clock stands in the checkup.",
		Theirs: "Please look whether the clock of the machine is right, and from where it is set.",
		Side:   Either,
		Person: "The clock of your computer seems to be wrong. " + askHelp,
		Status: responder, Substatus: "AuthnFailed", OAuth: "access_denied",
	},
	{
		Code:      KerberosNotTheirs,
		Title:     "The ticket is not of whoever showed it",
		Cause:     "Whoever showed the ticket of {partner} did not prove that it is theirs: expected was {expected}, got was {got}.",
		Remedy:    "If this happens more than once, somebody tries to use tickets of others. Look at the addresses in the traces.",
		Side:      Theirs,
		Person:    goesOn,
		Status:    responder,
		Substatus: "AuthnFailed",
		OAuth:     "access_denied",
	},
	{
		Code:      KerberosRealm,
		Title:     "The ticket is of another realm",
		Cause:     "The ticket of {partner} is of somebody from {got}; people of {expected} may come.",
		Remedy:    "If people of this realm should come, add it to the provider's realms. Its KDC then says who they are.",
		Side:      Ours,
		Person:    goesOn,
		Status:    responder,
		Substatus: "AuthnFailed",
		OAuth:     "access_denied",
	},
	{
		Code:      KerberosNoPerson,
		Title:     "The ticket is of no person",
		Cause:     "The ticket of {partner} is of {got}: a machine, a service, or nobody in particular. Only people sign in.",
		Remedy:    "Have the browser run as the person who uses it.",
		Side:      Person,
		Person:    goesOn,
		Status:    responder,
		Substatus: "AuthnFailed",
		OAuth:     "access_denied",
	},
	{
		Code:  KerberosReplayed,
		Title: "The ticket was shown a second time",
		Cause: "What {partner}'s person showed was shown before, octet for octet ({got}). It counts once.",
		Remedy: "Start again. If it happens by itself, look for something on the way that sends " +
			"requests twice; else somebody copied one.",
		Side:      Either,
		Person:    "This sign-in was used already. Please start again.",
		Again:     true,
		Status:    responder,
		Substatus: "AuthnFailed",
		OAuth:     "access_denied",
	},
	{
		Code:      KerberosNoKeytab,
		Title:     "No keytab is held",
		Cause:     "No keytab was entered for {partner}, or it can't be opened, so no ticket can be read.",
		Remedy:    "Have the keytab made as the exchange sheet says, and enter it on the provider's page.",
		Side:      Ours,
		Person:    goesOn,
		Status:    responder,
		Substatus: "AuthnFailed",
		OAuth:     "server_error",
	},
}
