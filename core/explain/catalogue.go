package explain

import "slices"

const (
	requester = "Requester"
	responder = "Responder"
)

const laterPerson = "The two systems don't agree with each other. Please tell the person who looks after it, with the number below."

// catalogue holds every code. Codes are stable: they stand in traces, bookmarks and mails.
var catalogue = slices.Concat(catalogueSAML, catalogueSAMLAnswers, catalogueOIDC, catalogueOIDCAsked,
	cataloguePeople, catalogueLDAP, catalogueKerberos, catalogueSCIM, catalogueGate)
