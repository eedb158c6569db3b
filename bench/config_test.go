package bench

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/config"
	"innergate/core/files"
	"innergate/demo"
)

// applicationsText is a file with many applications, each with a certificate of its own like Crew Rota's.
func applicationsText(b *testing.B, w *demo.World, count int) string {
	text, err := w.Client().ExportConfig(context.Background())
	require.NoError(b, err)
	set := files.Read([]files.Text{{Text: text}})
	require.Empty(b, set.Problems)
	var list []files.Object
	for _, o := range set.Objects {
		if o.Kind == files.Application && o.Slug == "crew-rota" { // one certificate, for both uses
			a, err := files.Value[config.Application](&o)
			require.NoError(b, err)
			a.SAML.Certificates = []config.Certificate{{PEM: a.SAML.Certificates[0].PEM}}
			body, err := json.Marshal(a)
			require.NoError(b, err)
			o.Body = string(body)
		}
		if o.Key() != files.Application+" crew-rota" {
			continue
		}
		for i := range count {
			c := o
			c.Slug = fmt.Sprintf("copy-%d", i)
			c.Body = strings.NewReplacer(`"slug":"crew-rota"`, `"slug":"`+c.Slug+`"`, `"entityId":"`,
				fmt.Sprintf(`"entityId":"https://copy-%d.example/`, i), `"name":"Crew Rota"`, fmt.Sprintf(`"name":"Copy %d"`, i)).
				Replace(o.Body)
			list = append(list, c)
		}
	}
	out, err := files.Write(list, nil)
	require.NoError(b, err)
	return out
}

// BenchmarkConfiguration loads 10,000 applications from a file into a store that has none of them (bound 10 s, in one
// transaction), tells what ten changes of them would do (bound 3 s), and exports them (bound 3 s): each over the
// command's whole way, through the client and the network. The floor is writing the file's octets to the disk and
// reading them again. Beside these 10,000 an older revision is restored, on which a sign-in that starts then must act
// (bound 1 s).
func BenchmarkConfiguration(b *testing.B) {
	ctx := context.Background()
	w, err := demo.Start(ctx, demo.Options{Folder: b.TempDir()})
	require.NoError(b, err)
	defer w.Close()
	text := applicationsText(b, w, 10_000)
	c := w.Client()
	c.HTTP.Timeout = 2 * time.Minute
	var load, preview, export, report, floor time.Duration
	for range b.N {
		at := time.Now()
		path := filepath.Join(b.TempDir(), "floor.yaml")
		require.NoError(b, os.WriteFile(path, []byte(text), 0o600))
		_, err := os.ReadFile(path)
		require.NoError(b, err)
		floor = time.Since(at)

		at = time.Now()
		r, err := c.Load(ctx, api.LoadConfig{Files: []files.Text{{Name: "many.yaml", Text: text}}})
		require.NoError(b, err)
		load = time.Since(at)
		if len(r.Steps) != 10_000 && r.Unchanged != 10_000 {
			b.Fatal(len(r.Steps), r.Unchanged)
		}
		_, err = c.Checkup(ctx) // what follows a change by itself is not measured here
		require.NoError(b, err)
		changed := text
		for i := range 10 {
			changed = strings.Replace(changed, fmt.Sprintf("name: Copy %d\n", 700*i), fmt.Sprintf("name: Other %d\n", i), 1)
		}
		at = time.Now()
		r, err = c.Load(ctx, api.LoadConfig{Files: []files.Text{{Name: "many.yaml", Text: changed}}, Preview: true})
		require.NoError(b, err)
		preview = time.Since(at)
		require.Len(b, r.Steps, 10)

		at = time.Now()
		_, err = c.ExportConfig(ctx)
		require.NoError(b, err)
		export = time.Since(at)
		at = time.Now()
		_, err = c.Report(ctx, "application", client.Page{Limit: 100})
		require.NoError(b, err)
		report = time.Since(at)
		if b.N > 1 {
			break // loading again would find everything there
		}
	}
	restore, whole := restoring(ctx, b, w)
	b.ReportMetric(restore.Seconds()*1000, "restore-ms")
	b.ReportMetric(whole.Seconds()*1000, "restore-and-sign-in-ms")
	b.ReportMetric(float64(len(text))/1e6, "MB")
	b.ReportMetric(load.Seconds(), "load-s")
	b.ReportMetric(preview.Seconds(), "preview-s")
	b.ReportMetric(export.Seconds(), "export-s")
	b.ReportMetric(report.Seconds(), "report-s")
	b.ReportMetric(floor.Seconds(), "floor-s")
	b.ReportMetric(0, "ns/op")
}

// restoring takes an application's changed subject back, and signs in: how long the first took, and both together.
func restoring(ctx context.Context, b *testing.B, w *demo.World) (restore, whole time.Duration) {
	c := w.Client()
	held, err := c.Application(ctx, "crew-rota")
	require.NoError(b, err)
	change := held.Application
	change.Subject = config.Subject{Source: "profile", From: "email"}
	_, err = c.PutApplication(ctx, change, held.Revision)
	require.NoError(b, err)
	at := time.Now()
	_, err = c.Restore(ctx, api.Restore{Kind: files.Application, Slug: "crew-rota", Number: held.Revision})
	require.NoError(b, err)
	restore = time.Since(at)
	person := w.Walker()
	require.NoError(b, person.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	require.Equal(b, "mvoss", person.Inner("nameid"))
	return restore, time.Since(at)
}
