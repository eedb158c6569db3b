package sources

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/saml"
	"innergate/core/takein"
	"innergate/core/words"
	"innergate/core/xmltree"
	"innergate/gate/fetch"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/watch"
	"innergate/store"
)

// sourceJob is a reading of a source that is under way.
type sourceJob struct {
	sync.Mutex
	api.SourceJob
	cancel context.CancelFunc
	done   chan struct{}
	err    error
}

func (j *sourceJob) show() *api.SourceJob {
	j.Lock()
	defer j.Unlock()
	s := j.SourceJob
	return &s
}

func (j *sourceJob) set(change func(*api.SourceJob)) {
	j.Lock()
	defer j.Unlock()
	change(&j.SourceJob)
}

func (g *Room) job(id string) *sourceJob {
	if j, ok := g.sourceJobs.Load(id); ok {
		return j.(*sourceJob)
	}
	return nil
}

func (g *Room) cancelJob(id string) bool {
	j := g.job(id)
	if j == nil {
		return false
	}
	j.cancel()
	<-j.done
	return true
}

// RefreshSource begins to read a source and returns at once; how far it is shows in the source. One that is under way
// goes on.
func (g *Room) RefreshSource(ctx context.Context, slug string) (*api.Source, error) {
	row, c, err := g.sourceRow(ctx, slug)
	if err != nil {
		return nil, err
	}
	if c.Kind == config.SourceQuery {
		return nil, ground.BadRequest(
			"query-service", "A metadata query service is asked for one entity at a time; there is nothing to refresh.",
			"Look an entity up.",
		)
	}
	if _, err := os.Stat(g.incoming(row.ID)); c.Kind == config.SourceFile && err != nil {
		return nil, ground.BadRequest("no-file", "No file was uploaded.", "Upload the file first.")
	}
	g.startJob(row, c)
	return g.Source(ctx, slug)
}

// startJob reads a source in the background, unless that is under way already.
func (g *Room) startJob(row *store.Source, c *config.Source) *sourceJob {
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Minute)
	j := &sourceJob{SourceJob: api.SourceJob{Stage: "fetching", All: -1, Begun: g.Now()}, cancel: cancel, done: make(chan struct{})}
	if old, there := g.sourceJobs.LoadOrStore(row.ID, j); there {
		cancel()
		return old.(*sourceJob)
	}
	go func() {
		defer cancel()
		j.err = g.readSource(ctx, row, c, j)
		if j.err != nil {
			g.Log.WarnContext(ctx, "a source was not read", "source", row.Slug, "error", j.err)
		}
		g.sourceJobs.Delete(row.ID)
		close(j.done)
	}()
	return j
}

// CancelSource stops a reading that is under way. What was held before stays.
func (g *Room) CancelSource(ctx context.Context, slug string) error {
	row, _, err := g.sourceRow(ctx, slug)
	if err != nil {
		return err
	}
	if !g.cancelJob(row.ID) {
		return ground.Conflict("no-job", "This source is not being read now.", "")
	}
	return nil
}

// incoming is where a source's document lies while it is read.
func (g *Room) incoming(id string) string {
	return filepath.Join(g.Store.Folder, "incoming", id+".xml")
}

// Tidy removes documents that were uploaded and never read.
func (g *Room) Tidy(t *ground.Tidying) error {
	now := t.Now
	files, err := os.ReadDir(filepath.Dir(g.incoming("x")))
	if err != nil {
		return nil // there is no such folder before the first source
	}
	for _, f := range files {
		info, err := f.Info()
		if err == nil && now.Sub(info.ModTime()) > 24*time.Hour {
			if err := os.Remove(g.incoming(strings.TrimSuffix(f.Name(), ".xml"))); err != nil {
				g.Log.Warn("an old upload could not be removed", "file", f.Name(), "error", err)
			}
		}
	}
	return nil
}

// UploadSource takes a part of a file that begins at offset; offset 0 begins anew. Parts come in order.
func (g *Room) UploadSource(ctx context.Context, slug string, offset int64, part []byte) error {
	row, c, err := g.sourceRow(ctx, slug)
	if err != nil {
		return err
	}
	if c.Kind != config.SourceFile {
		return ground.BadRequest("not-a-file", c.Name+" is fetched from its address; nothing can be uploaded to it.", "")
	}
	if g.job(row.ID) != nil {
		return ground.Conflict("job", "The source is being read now.", "Wait until it has finished, or cancel it.")
	}
	if offset+int64(len(part)) > saml.MaxAggregate {
		return ground.BadRequest("too-large", fmt.Sprintf("The file is larger than %d MiB.", saml.MaxAggregate>>20), "")
	}
	if err := os.MkdirAll(filepath.Dir(g.incoming(row.ID)), 0o700); err != nil {
		return err
	}
	how := os.O_WRONLY | os.O_CREATE
	if offset == 0 {
		how |= os.O_TRUNC
	}
	f, err := os.OpenFile(g.incoming(row.ID), how, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	if end, err := f.Seek(0, io.SeekEnd); err != nil {
		return err
	} else if end != offset {
		return ground.Conflict("offset", fmt.Sprintf("The part begins at byte %d, and %d bytes are there.", offset, end),
			"Begin the upload anew.")
	}
	_, err = f.Write(part)
	return err
}

// readSource fetches, verifies and stores. Nothing of what is held changes until the whole document was read and found
// good.
func (g *Room) readSource(ctx context.Context, row *store.Source, c *config.Source, j *sourceJob) error {
	file := g.incoming(row.ID)
	defer os.Remove(file)
	state, err := g.readInto(ctx, row, c, j, file)
	now := g.Now().UTC()
	if errors.Is(ctx.Err(), context.Canceled) {
		return errors.New("it was cancelled")
	}
	write := map[string]any{"checked_at": now}
	var failed *watch.RefreshError
	switch {
	case errors.As(err, &failed):
		write["failures"], write["error"], write["code"] = gorm.Expr("failures + 1"), failed.Reason, failed.Code
		write["failing_since"] = gorm.Expr("coalesce(failing_since, ?)", now)
		if c.Kind == config.SourceAggregate {
			write["due_at"] = now.Add(min(takein.RefreshSoonest<<min(row.Failures, 4), takein.RefreshUsually))
		}
	case err != nil:
		return err
	default:
		write["failures"], write["error"], write["code"], write["failing_since"] = 0, "", "", nil
		for k, v := range state {
			write[k] = v
		}
		if c.Kind == config.SourceAggregate {
			write["due_at"] = now.Add(sourceInterval(c, write, row))
		}
	}
	saved := g.Store.Write(context.WithoutCancel(ctx), func(tx *gorm.DB) error {
		if err := tx.Model(&store.Source{}).Where("id = ?", row.ID).Updates(write).Error; err != nil {
			return err
		}
		if failed != nil {
			return nil
		}
		// Partners that take their metadata from here look at once whether theirs changed.
		return partners.WatchSource(tx, row.Slug, now)
	})
	return errors.Join(err, saved)
}

func sourceInterval(c *config.Source, state map[string]any, row *store.Source) time.Duration {
	seconds := row.CacheSeconds
	if s, ok := state["cache_seconds"].(int64); ok {
		seconds = s
	}
	switch {
	case c.EveryMinutes > 0:
		return time.Duration(c.EveryMinutes) * time.Minute
	case seconds > 0:
		return min(max(time.Duration(seconds)*time.Second, takein.RefreshSoonest), takein.RefreshLatest)
	}
	return takein.RefreshUsually
}

func (g *Room) readInto(ctx context.Context, row *store.Source, c *config.Source, j *sourceJob, file string) (map[string]any, error) {
	state := map[string]any{}
	if c.Kind == config.SourceAggregate {
		got, err := g.fetchAggregate(ctx, row, c, j, file)
		if err != nil || got.NotModified {
			return state, err
		}
		state["e_tag"], state["last_modified"] = got.ETag, got.LastModified
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	size := int64(-1)
	if info, err := f.Stat(); err == nil {
		size = info.Size()
	}
	j.set(func(s *api.SourceJob) { s.Stage, s.Have, s.All = "verifying", 0, size })
	watched := &countingReader{ctx: ctx, r: f, job: j}
	if cert := pinned(c); cert != nil {
		err = saml.VerifyStream(watched, []*x509.Certificate{cert})
	} else {
		_, err = saml.StreamMetadata(watched, saml.ReadOptions{Now: g.Now()}, func(*saml.Document, *xmltree.Element) error { return nil })
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err != nil {
		return nil, &watch.RefreshError{Code: sourceCode(c), Reason: "The document can't be used: " + err.Error() + ". What is held stays."}
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	j.set(func(s *api.SourceJob) { s.Stage, s.Have = "storing", 0 })
	a, err := g.storeEntities(ctx, row, c, j, &countingReader{ctx: ctx, r: f, job: j})
	if err != nil {
		return nil, err
	}
	state["entities"], state["valid_until"], state["published_name"] = a.Entities, a.ValidUntil, words.Clip(a.Name, 200)
	state["cache_seconds"] = int64(a.CacheDuration / time.Second)
	return state, nil
}

func sourceCode(c *config.Source) string {
	if c.Certificate != "" {
		return "metadata.signature"
	}
	return "metadata.not-xml"
}

func (g *Room) fetchAggregate(ctx context.Context, row *store.Source, c *config.Source, j *sourceJob, file string) (*fetch.Got, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	got, err := g.Fetch.Do(
		ctx,
		fetch.Want{
			URL:          c.URL,
			ETag:         row.ETag,
			LastModified: row.LastModified,
			To:           f,
			MaxBytes:     saml.MaxAggregate,
			Timeout:      10 * time.Minute,
			Stall:        30 * time.Second,
			Progress:     func(have, all int64) { j.set(func(s *api.SourceJob) { s.Have, s.All = have, all }) },
		},
	)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, &watch.RefreshError{Code: "metadata.fetch", Reason: words.Capitalise(err.Error()) + "."}
	}
	return got, nil
}

// countingReader tells a job how far it is, and stops when the job is cancelled.
type countingReader struct {
	ctx  context.Context
	r    io.Reader
	job  *sourceJob
	have int64
}

func (c *countingReader) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := c.r.Read(p)
	c.have += int64(n)
	c.job.set(func(s *api.SourceJob) { s.Have = c.have })
	return n, err
}

const storedAtOnce = 200

// storeEntities writes what changed, a few hundred entities in each transaction, so that no sign-in waits for long;
// then it removes what is gone.
func (g *Room) storeEntities(ctx context.Context, row *store.Source, c *config.Source, j *sourceJob, r io.Reader) (*saml.Aggregate, error) {
	round := g.Now().UnixMicro()
	var batch []*store.SourceEntity
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		ids := make([]string, len(batch))
		for i, e := range batch {
			ids[i] = e.EntityID
		}
		var held []store.SourceEntity
		if err := g.Store.Read(ctx).Select("entity_id, sha256").Where("source_id = ? AND entity_id IN ?", row.ID,
			ids).Find(&held).Error; err != nil {
			return store.Clear(err)
		}
		known := map[string]string{}
		for _, h := range held {
			known[h.EntityID] = h.SHA256
		}
		err := g.Store.Write(ctx, func(tx *gorm.DB) error {
			for _, e := range batch {
				var err error
				if sha, there := known[e.EntityID]; there && sha == e.SHA256 {
					err = tx.Model(&store.SourceEntity{}).
						Where("source_id = ? AND entity_id = ?", row.ID, e.EntityID).
						Updates(map[string]any{"round": round, "valid_until": e.ValidUntil}).
						Error
				} else if there {
					err = tx.Save(e).Error
				} else {
					err = tx.Create(e).Error
				}
				if err != nil {
					return err
				}
			}
			return nil
		})
		batch = batch[:0]
		return err
	}
	seen := map[string]bool{}
	begin := func(a *saml.Aggregate) error {
		return watch.CheckValidity(a.ValidUntil, row.ValidUntil, g.Now(), c.Kind != config.SourceFile)
	}
	a, err := saml.StreamMetadata(
		r,
		saml.ReadOptions{Now: g.Now(), Ours: g.partners.OurIDs(), Begin: begin},
		func(d *saml.Document, raw *xmltree.Element) error {
			if len(d.Entities) != 1 || len(d.Entities[0].Roles) == 0 || seen[d.Entities[0].EntityID] {
				return nil
			}
			seen[d.Entities[0].EntityID] = true
			e := sourceRow(row.ID, d, raw.Bytes(), g.Now())
			e.Round = round
			j.set(func(s *api.SourceJob) { s.Entities = len(seen) })
			if batch = append(batch, e); len(batch) >= storedAtOnce {
				return flush()
			}
			return nil
		},
	)
	if err == nil {
		err = flush()
	}
	if err != nil {
		return nil, err
	}
	a.Entities = len(seen)
	return a, g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Where("source_id = ? AND round <> ?", row.ID, round).Delete(&store.SourceEntity{}).Error
	})
}

// RefreshSourcesDue reads the aggregates that are due, one after the other.
func (g *Room) RefreshSourcesDue(ctx context.Context) error {
	var due []store.Source
	if err := g.Store.Read(ctx).Where("due_at <= ? AND kind = ?", g.Now().UTC(),
		config.SourceAggregate).Order("due_at").Limit(50).Find(&due).Error; err != nil {
		return store.Clear(err)
	}
	for i := range due {
		c, err := ground.DecodeBody[config.Source](due[i].Body)
		if err != nil {
			return err
		}
		j := g.startJob(&due[i], &c)
		select {
		case <-j.done:
		case <-ctx.Done():
			j.cancel()
			<-j.done
			return ctx.Err()
		}
	}
	return nil
}
