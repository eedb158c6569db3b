package bench

import (
	"bytes"
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/demo"
	"innergate/store"
	"innergate/testbed"
)

// counted makes the numbers from 1 to a bound in SQL.
const counted = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < ?) "

// fill puts people, each with a link and a group, and applications into a store that no service holds open.
func fill(b *testing.B, folder string, people, applications int) {
	sealer, err := store.NewSealer(make([]byte, 32)) // nothing sealed is read
	require.NoError(b, err)
	s, err := store.Open(folder, sealer)
	require.NoError(b, err)
	defer s.Close()
	require.NoError(b, s.Write(context.Background(), func(tx *gorm.DB) error {
		now := time.Now().UTC()
		for _, q := range []struct {
			text string
			args []any
		}{
			{"INSERT INTO people (id, name, email, active, profile, sources, type, username, username_key, external_id, external_key, " +
				"email_key, name_key, last_key, created_at, updated_at) " + counted +
				`SELECT printf('01P%023d', i), 'Person ' || i, 'p' || i || '@saltmere.example', 1, json_object('name', ` +
				`json_array('Person ' || i), 'email', json_array('p' || i || '@saltmere.example'), 'preferred_username', ` +
				`json_array('p' || i), 'groups', json_array('staff', 'ferry-crew')), '{}', 'staff', 'p' || i, 'p' || i, 'x' || i, 'x' ` +
				`|| i, 'p' || i || '@saltmere.example', 'person ' || i, printf('%d', i), ?, ? FROM n`, []any{people, now, now}},
			{"INSERT INTO links (id, person_id, provider_id, subject, shown, first_used, last_used) " + counted +
				"SELECT printf('01L%023d', i), printf('01P%023d', i), (SELECT id FROM providers WHERE slug = 'saltmere-staff'), " +
				"'nameid' || char(31) || 'x' || i, 'x' || i, ?, ? FROM n", []any{people, now, now}},
			{"INSERT INTO memberships (person_id, group_id, giver, at) " + counted +
				"SELECT printf('01P%023d', i), (SELECT id FROM groups WHERE slug = 'crew'), 'hand', ? FROM n", []any{people, now}},
			{"INSERT INTO applications (id, slug, name, kind, reach, entity_id, body, revision, created_at, updated_at) " + counted +
				"SELECT printf('01A%023d', i), 'copy-' || i, 'Copy ' || i, kind, reach, 'https://copy-' || i || '.example/saml', " +
				"replace(replace(body, entity_id, 'https://copy-' || i || '.example/saml'), 'crew-rota', 'copy-' || i), 1, " +
				"created_at, updated_at FROM n, (SELECT * FROM applications WHERE slug = 'crew-rota')", []any{applications}},
			{"INSERT INTO assignments (application_id, kind, who_id, roles, \"by\", at) " + counted +
				"SELECT printf('01A%023d', i), 'group', (SELECT id FROM groups WHERE slug = 'crew'), '[]', 'bench', ? FROM n",
				[]any{applications, now}},
		} {
			if err := tx.Exec(q.text, q.args...).Error; err != nil {
				return fmt.Errorf("%s: %w", q.text, err)
			}
		}
		return nil
	}))
}

// BenchmarkSignInAmongMany is a whole sign-in with 1,000,000 people and 10,000 applications in the store; ratio is its
// processor time in the gate over that with 100 and 10, and the bound is 1.2. The two services run at the same time and
// take turns, so that both see the same machine.
func BenchmarkSignInAmongMany(b *testing.B) {
	ctx := context.Background()
	var worlds [2]*demo.World
	var services [2]*testbed.Service
	for i, size := range [][2]int{{100, 10}, {1_000_000, 10_000}} {
		worlds[i], services[i] = preparedWith(b, func(folder string) { fill(b, folder, size[0], size[1]) })
	}
	once := func(i int) {
		walker := demo.NewWalker(nil)
		if err := walker.SignIn(ctx, worlds[i].RotaURL+"/sign-in", "mvoss"); err != nil || walker.Inner("nameid") != "mvoss" {
			b.Fatal(err, walker.Text)
		}
		walker.HTTP.CloseIdleConnections()
	}
	for range 100 {
		once(0)
		once(1)
	}
	var used [2]time.Duration
	n := 0
	before := [2]time.Duration{services[0].Processor(b), services[1].Processor(b)}
	for b.Loop() {
		for range 20 {
			once(0)
			once(1)
			n++
		}
	}
	for i := range used {
		used[i] = (services[i].Processor(b) - before[i]) / time.Duration(n)
	}
	b.ReportMetric(float64(used[1])/float64(used[0]), "ratio")
	b.ReportMetric(float64(used[1].Microseconds())/1000, "many-ms")
	b.ReportMetric(float64(used[0].Microseconds())/1000, "few-ms")
	b.ReportMetric(services[1].Resident(b), "many-MiB")
}

// BenchmarkImport imports 100,000 people from a file by the API: sent, every line checked, written. The bound is 60 s;
// floor-s is the time of putting the same people into the same table with one bare statement for each and a transaction
// for every 500.
func BenchmarkImport(b *testing.B) {
	const many = 100_000
	ctx := context.Background()
	var file bytes.Buffer
	file.WriteString("external_id,name,given_name,family_name,email,preferred_username,phone_number,groups at the gate\n")
	for i := range many {
		fmt.Fprintf(&file, "c%d,Crew Member %d,Crew,Member %d,crew%d@saltmere.example,crew%d,+44 1632 %06d,crew\n", i, i, i, i, i, i)
	}
	for b.Loop() {
		b.StopTimer()
		w, err := demo.Start(ctx, demo.Options{Folder: b.TempDir()})
		require.NoError(b, err)
		floor := bareImport(b, many)
		b.StartTimer()
		begin := time.Now()
		c := w.Client()
		job, err := c.NewImport(ctx, api.NewImport{Form: "csv", By: "external_id"})
		require.NoError(b, err)
		for at := 0; at < file.Len(); at += 1 << 20 {
			_, err = c.SendImport(ctx, job.ID, int64(at), file.Bytes()[at:min(at+1<<20, file.Len())])
			require.NoError(b, err)
		}
		var marks [2]time.Duration
		for i, act := range []func(context.Context, string) (*api.Import, error){c.CheckImport, c.WriteImport} {
			_, err = act(ctx, job.ID)
			require.NoError(b, err)
			for job.State = "running"; job.State == "running"; time.Sleep(20 * time.Millisecond) {
				job, err = c.Import(ctx, job.ID)
				require.NoError(b, err)
			}
			require.Empty(b, job.Problems)
			marks[i] = time.Since(begin)
		}
		require.Equal(b, many, job.Created)
		b.ReportMetric(marks[1].Seconds(), "s")
		b.ReportMetric(marks[0].Seconds(), "check-s")
		b.ReportMetric(floor.Seconds(), "floor-s")
		b.StopTimer()
		w.Close()
		b.StartTimer()
	}
}

func bareImport(b *testing.B, many int) time.Duration {
	sealer, err := store.NewSealer(make([]byte, 32))
	require.NoError(b, err)
	s, err := store.Open(b.TempDir(), sealer)
	require.NoError(b, err)
	defer s.Close()
	begin := time.Now()
	for from := 0; from < many; from += 500 {
		require.NoError(b, s.Write(context.Background(), func(tx *gorm.DB) error {
			for i := from; i < from+500; i++ {
				if _, err := store.Exec(tx,
					"INSERT INTO people (id, name, email, active, profile, sources, type, username, username_key, external_id, "+
						"external_key, email_key, name_key, last_key, created_at, updated_at) VALUES (?, ?, ?, 1, ?, '{}', 'staff', "+
						"?, ?, ?, ?, ?, ?, ?, ?, ?)",
					store.NewID(), fmt.Sprint("Crew Member ", i), fmt.Sprint("crew", i, "@saltmere.example"),
					fmt.Sprintf(`{"email":["crew%d@saltmere.example"],"name":["Crew Member %d"]}`, i, i), fmt.Sprint("crew", i),
					fmt.Sprint("crew", i), fmt.Sprint("c", i), fmt.Sprint("c", i), fmt.Sprint("crew", i, "@saltmere.example"),
					fmt.Sprint("crew member ", i), fmt.Sprint(i), begin, begin); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	return time.Since(begin)
}
