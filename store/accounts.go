package store

import (
	"strings"
	"time"

	"gorm.io/gorm"
)

// KeptAccount is what is known of the account that a person has at an application, or of a group there, and how it stands.
type KeptAccount struct {
	ID            string    `gorm:"primaryKey"`
	ApplicationID string    `gorm:"uniqueIndex:kept_whose;index:kept_state;index:kept_name;index:kept_there"`
	Kind          string    `gorm:"uniqueIndex:kept_whose"` // person, group, or foreign for an account of nobody known here
	WhoID         string    `gorm:"uniqueIndex:kept_whose;index"`
	State         string    `gorm:"index:kept_state"` // step, approval, due, failed, foreign or ignored
	NextAt        time.Time `gorm:"index:kept_state"`
	Name          string
	NameKey       string `gorm:"index:kept_name"`
	// Wanted is set where there should be an account; Would is what is to be sent: create, change, deactivate, delete or nothing.
	Wanted bool
	Would  string
	// RemoteID, RemoteName and Version are the account's there; There is active, inactive or empty for none.
	RemoteID   string `gorm:"index:kept_there"`
	RemoteName string
	Version    string
	There      string
	Sent       string // what it was made to be, in short
	Unkept     string // JSON: the paths that the application does not keep
	Accepted   string // JSON: the paths that were left to it
	Drift      string // JSON: where it was found to be otherwise than it should be
	Approved   bool   // somebody agreed that it is made, or taken over
	Agreed     bool   // somebody agreed that it is taken away
	By         string // who did either
	// Turn is counted on whenever it becomes due, so that what was sent meanwhile does not count for what came after.
	Turn  int64
	Tries int
	Code  string
	// Reason is why it failed, in words.
	Reason    string
	SeenIn    string // the comparison in which it was last seen there
	RemovedAt *time.Time
	UpdatedAt time.Time
}

// AccountPump is how keeping an application's accounts stands as a whole, and which process does it.
type AccountPump struct {
	ApplicationID string `gorm:"primaryKey"`
	Holder        string
	Until         time.Time
	// ComparedAt is when all accounts were last compared; before that nothing is sent.
	ComparedAt *time.Time
	// Abilities is what the application said that it can do, in JSON.
	Abilities   string
	AbilitiesAt *time.Time
	// PausedUntil is set where the application asked to be left alone for some time, or nothing can be sent to it; Code and Reason say
	// why, Tries how often in a row.
	PausedUntil *time.Time
	Tries       int
	Code        string
	Reason      string
	// Asking is how many accounts would be taken away at once, more than may be; 0 where nobody is asked.
	Asking int
}

// AccountNews is a change that may matter to accounts, written in the transaction of the change by the database itself.
type AccountNews struct {
	ID            int64  `gorm:"primaryKey;autoIncrement"`
	Kind          string // person, members (of a group), group, application or rules
	WhoID         string
	ApplicationID string // where it matters to one alone
	After         string // how far a large one has been worked out
}

// AccountSwitch is an application whose accounts are kept; the database keeps the table in step with the applications themselves.
type AccountSwitch struct {
	ApplicationID string `gorm:"primaryKey"`
}

// AccountComparison is one comparison of all accounts of an application.
type AccountComparison struct {
	ID            string `gorm:"primaryKey"`
	ApplicationID string `gorm:"index"`
	State         string // working, done or stopped
	By            string
	There         int // accounts that are there
	Groups        int
	Same          int
	Create        int
	Change        int
	Remove        int
	Foreign       int
	Drifted       int
	Note          string
	StartedAt     time.Time
	UpdatedAt     time.Time
}

// AccountTalk is one step of keeping an account: the requests and answers of it, sealed. It stands in the file of traces.
type AccountTalk struct {
	ID            string    `gorm:"primaryKey"`
	ApplicationID string    `gorm:"index:account_talk_whose"`
	AccountID     string    `gorm:"index:account_talk_whose"`
	At            time.Time `gorm:"index"`
	What          string    // create, change, deactivate, delete, compare or try
	Result        string
	Code          string
	Entries       []byte
	Micros        int64
}

// Leaving is the condition for accounts that are to be taken away.
const Leaving = "NOT wanted AND state IN ('due', 'again')"

func migrateAccounts(tx *gorm.DB) error {
	if err := tx.AutoMigrate(&KeptAccount{}, &AccountPump{}, &AccountNews{}, &AccountSwitch{}, &AccountComparison{}); err != nil {
		return err
	}
	// What is to be taken away is counted before each part that is sent.
	if err := tx.Exec("CREATE INDEX kept_leaving ON kept_accounts (application_id) WHERE " + Leaving).Error; err != nil {
		return err
	}
	for _, stmt := range accountTriggers() {
		if err := tx.Exec(stmt).Error; err != nil {
			return err
		}
	}
	return nil
}

// accountTrigger begins the names of the triggers that note what matters to accounts.
const accountTrigger = "accounts_"

// accountTriggers note every change that may matter to accounts, whoever makes it: no room can forget to. Where no application's
// accounts are kept, nothing is noted.
func accountTriggers() []string {
	const kept = "EXISTS (SELECT 1 FROM account_switches)"
	news := func(name, event, table, when string, rows ...string) string {
		out := "CREATE TRIGGER " + accountTrigger + name + " AFTER " + event + " ON " + table + " WHEN " + when + " BEGIN "
		for _, r := range rows {
			out += "INSERT INTO account_news (kind, who_id, application_id, after) VALUES (" + r + ", ''); "
		}
		return out + "END"
	}
	const kind = "CASE %.kind WHEN 'group' THEN 'members' ELSE 'person' END, %.who_id, %.application_id"
	of := func(row string) string { return strings.ReplaceAll(kind, "%", row) }
	const configured = "json_extract(new.body, '$.accounts') IS NOT NULL"
	const changed = "json_extract(old.body, '$.accounts') IS NOT json_extract(new.body, '$.accounts')"
	const person = "(old.name, old.active, old.profile, old.type, old.username, old.email, old.external_id, old.login) IS NOT " +
		"(new.name, new.active, new.profile, new.type, new.username, new.email, new.external_id, new.login)"
	return []string{
		"CREATE TRIGGER " + accountTrigger + "switch_made AFTER INSERT ON applications WHEN " + configured +
			" BEGIN INSERT OR IGNORE INTO account_switches VALUES (new.id); END",
		"CREATE TRIGGER " + accountTrigger + "switch_on AFTER UPDATE OF body ON applications WHEN " + configured +
			" BEGIN INSERT OR IGNORE INTO account_switches VALUES (new.id); END",
		"CREATE TRIGGER " + accountTrigger + "switch_off AFTER UPDATE OF body ON applications WHEN NOT (" + configured +
			") BEGIN DELETE FROM account_switches WHERE application_id = new.id; END",
		"CREATE TRIGGER " + accountTrigger + "switch_gone AFTER DELETE ON applications BEGIN DELETE FROM account_switches WHERE " +
			"application_id = old.id; END",
		news("application_made", "INSERT", "applications", configured, "'application', new.id, new.id"),
		news("application_changed", "UPDATE OF body", "applications", changed, "'application', new.id, new.id"),
		news("rules_changed", "UPDATE OF body", "rule_sets", kept, "'rules', new.id, ''"),
		news("person_made", "INSERT", "people", kept, "'person', new.id, ''"),
		news("person_changed", "UPDATE", "people", kept+" AND "+person, "'person', new.id, ''"),
		news("person_gone", "DELETE", "people", kept, "'person', old.id, ''"),
		news("member_in", "INSERT", "memberships", kept, "'person', new.person_id, ''", "'group', new.group_id, ''"),
		news("member_out", "DELETE", "memberships", kept, "'person', old.person_id, ''", "'group', old.group_id, ''"),
		news("assigned", "INSERT", "assignments", kept, of("new")),
		news("assigned_otherwise", "UPDATE OF roles", "assignments", kept, of("new")),
		news("unassigned", "DELETE", "assignments", kept, of("old")),
		news("group_made", "INSERT", "groups", kept, "'group', new.id, ''"),
		news("group_changed", "UPDATE", "groups", kept, "'group', new.id, ''"),
		news("group_gone", "DELETE", "groups", kept, "'group', old.id, ''", "'members', old.id, ''"),
	}
}
