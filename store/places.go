package store

// Place is where sealed values of one kind are kept. Nothing can be sealed or opened without one, and each is declared
// here together with the columns that hold it, so that changing the master key can't forget any.
type Place struct {
	name    string // what a sealed value is bound to, in front of the ID
	columns []column
}

// column is a column of sealed values, with the column that identifies a row.
type column struct {
	table, key, value string
	traces            bool   // the table is in the file of traces
	where             string // which rows, where the others hold something else
	// Update is how a new value is assigned where value is no column, but stands in JSON, encoded in base64.
	update  string
	encoded bool
}

// places are all that were declared.
var places []*Place

func declare(name string, columns ...column) *Place {
	p := &Place{name, columns}
	places = append(places, p)
	return p
}

// SealedColumns lists the columns of sealed values, each as table.column.
func SealedColumns() []string {
	var out []string
	for _, p := range places {
		for _, c := range p.columns {
			out = append(out, c.table+"."+c.value)
		}
	}
	return out
}

func in(table, key, value string) column { return column{table: table, key: key, value: value} }

func inTraces(table, key, value string) column {
	return column{table: table, key: key, value: value, traces: true}
}

// The places of sealed values.
var (
	PlaceKey      = declare("key/", in("keys", "id", "sealed"))
	PlaceSecret   = declare("secret/", in("secrets", "id", "sealed"))
	PlaceProposal = declare("proposal/", in("proposals", "id", "secret"))
	PlaceTOTP     = declare("totp/", column{table: "credentials", key: "id", value: "sealed", where: "kind = 'totp'"})
	PlacePasskey  = declare("passkey/", column{table: "credentials", key: "id", value: "sealed", where: "kind = 'passkey'"})
	PlaceSignIn   = declare("signin/", in("sign_ins", "id", "state"))
	PlaceTrace    = declare("trace/", inTraces("traces", "id", "entries"), inTraces("trace_additions", "id", "entries"))
	PlaceArtifact = declare("artifact/", in("artifacts", "handle", "sealed"))
	PlaceGrant    = declare("grant/", in("grants", "id", "sealed"))
	PlacePushed   = declare("pushed/", in("pushed_requests", "handle", "sealed"))
	PlaceSession  = declare("session/", in("sessions", "id", "sealed"))
	PlaceSignOut  = declare("sign-out/", in("sign_outs", "id", "sealed"))
	PlaceGuard    = declare("guard/", in("guard_tickets", "id", "sealed"), in("guard_sessions", "id", "sealed"))
	PlaceMove     = declare("move/", in("move_samples", "id", "sealed"), in("move_comparisons", "id", "sealed"))
	PlaceNode     = declare("node/", in("node_invitations", "id", "sealed"))
	PlaceLoad     = declare("load/", in("loads", "id", "sealed"))
	PlaceTalk     = declare("talk/", inTraces("account_talks", "id", "entries"))
	// PlaceSetting is a secret that belongs to one of the gate's settings, and stands beside its other values.
	PlaceSetting = declare("", column{
		table: "settings", key: "name", value: "CASE WHEN json_valid(value) THEN json_extract(value, '$.sealed') END",
		update: "value = json_set(value, '$.sealed', ?)", encoded: true,
	})
	// PlaceFile is a secret in a file outside of the gate, and PlaceWayBack an address that is given to a browser for a
	// moment: neither is in the store. What stands in files is sealed anew by exporting it again.
	PlaceFile    = declare("file/")
	PlaceWayBack = declare("way-back")
)
