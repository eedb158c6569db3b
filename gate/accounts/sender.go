package accounts

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// sender sends what is due at an application, several accounts at the same time. What comes next is read meanwhile, and how it went is
// written some at a time.
type sender struct {
	*Room
	app   *partners.Application // as it was when it began
	began time.Time
	queue chan parcel
	full  chan struct{} // enough was sent to be written
	moved chan struct{} // something was written, or nothing more is sent

	mu      sync.Mutex
	inHand  map[string]bool // the accounts that were taken up and are not written yet
	sent    []*sent
	count   int
	stopped error // why nothing more is sent for now
}

// load is what is read at once to be sent.
type load struct {
	able   *abilities
	people map[string]*who
	talk   *talk // what proves who we are, for all of them
	rows   []*store.KeptAccount
}

// parcel is one account on its way.
type parcel struct {
	row *store.KeptAccount
	of  *load
}

// sent is one account that was sent, and what is kept of it.
type sent struct {
	row    *store.KeptAccount
	turn   int64
	retell bool
	talk   *store.AccountTalk
}

const (
	// taken is the most accounts that are taken up at once, and ahead for how long an application is given work: what is
	// known of an account when it is sent is hardly older than that.
	taken = 500
	ahead = 2 * time.Second
	// written is how many are written in one transaction, and writtenFor how long one waits for that at most.
	written    = 250
	writtenFor = 250 * time.Millisecond
)

func (g *Room) newSender(app *partners.Application) *sender {
	return &sender{Room: g, app: app, began: time.Now(), queue: make(chan parcel, taken), full: make(chan struct{}, 1),
		moved: make(chan struct{}, 1), inHand: map[string]bool{}}
}

// run sends until nothing is due, nothing more can be sent for now, or the application is kept in another way, for which it says that
// one has to begin anew. What was sent is written before it returns.
func (s *sender) run(ctx context.Context) (anew bool, err error) {
	writing, stop := context.WithCancel(ctx)
	defer stop()
	var workers, writer sync.WaitGroup
	for range s.app.Accounts.AtOnce {
		workers.Go(func() {
			for p := range s.queue {
				s.one(ctx, p)
			}
		})
	}
	writer.Go(func() { s.keepWriting(writing) })
	anew, err = s.feed(ctx)
	close(s.queue)
	workers.Wait()
	stop()
	writer.Wait()
	if failed := s.flush(ctx); failed != nil {
		return false, failed
	}
	if err == nil {
		err = s.halted()
	}
	if err != nil {
		return false, s.pause(ctx, s.app, err)
	}
	return anew, ctx.Err()
}

// feed hands out what is due.
func (s *sender) feed(ctx context.Context) (anew bool, err error) {
	for s.wait(ctx, s.most()) {
		app, err := s.partners.ApplicationByID(ctx, s.app.ID)
		if err != nil || app.Accounts == nil || !app.Accounts.On {
			return false, err
		}
		if app.Accounts.AtOnce != s.app.Accounts.AtOnce {
			return true, nil
		}
		busy := s.holding() > 0
		next, err := s.load(ctx, app)
		if err != nil {
			return false, err
		}
		if next == nil { // once all is written, more may be due: groups, or what changed meanwhile
			if !busy || !s.wait(ctx, 0) {
				return false, nil
			}
			continue
		}
		s.hold(next.rows)
		for _, row := range next.rows {
			s.queue <- parcel{row, next}
		}
	}
	return false, nil
}

// most is how many accounts are taken up now, by how fast they went until now.
func (s *sender) most() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	perSecond := float64(s.count) / time.Since(s.began).Seconds()
	return min(taken, max(4*s.app.Accounts.AtOnce, int(perSecond*ahead.Seconds())))
}

// load reads what is sent next; nil for nothing.
func (s *sender) load(ctx context.Context, app *partners.Application) (*load, error) {
	held, err := s.heldBack(ctx, app)
	if err != nil {
		return nil, err
	}
	out := &load{}
	if out.rows, err = s.dueRows(ctx, held); err != nil || len(out.rows) == 0 {
		return nil, err
	}
	if out.able, err = s.able(ctx, app); err != nil {
		return nil, err
	}
	if !out.able.Asked {
		if out.able, err = s.learnFirst(ctx, app); err != nil {
			return nil, err
		}
	}
	var ids []string
	for _, r := range out.rows {
		if r.Kind == OfPerson {
			ids = append(ids, r.WhoID)
		}
	}
	if out.people, err = s.people(ctx, ids); err != nil {
		return nil, err
	}
	out.talk, err = s.newTalk(ctx, app, active)
	return out, err
}

// dueRows are the next accounts to be sent: those that are taken away first, and people before groups, since groups are of accounts
// that are there.
func (s *sender) dueRows(ctx context.Context, held bool) ([]*store.KeptAccount, error) {
	inHand := s.heldIDs()
	leaving := store.Leaving + " AND kind = 'person'"
	if held {
		leaving += " AND agreed"
	}
	if rows, err := s.due(ctx, inHand, "kept_leaving", leaving); err != nil || len(rows) > 0 {
		return rows, err
	}
	for _, kind := range []string{OfPerson, OfGroup} {
		if kind == OfGroup && len(inHand) > 0 {
			break
		}
		for _, state := range []string{Due, Again} { // each by itself is in the order of the index
			rows, err := s.due(ctx, inHand, "kept_state", "state = ? AND kind = ? AND (wanted OR kind = 'group')", state, kind)
			if err != nil || len(rows) > 0 {
				return rows, err
			}
		}
	}
	return nil, nil
}

// due are some accounts that are due and not on their way, in the order of an index.
func (s *sender) due(ctx context.Context, inHand []string, index, where string, args ...any) ([]*store.KeptAccount, error) {
	db := s.Store.Read(ctx).Table("kept_accounts INDEXED BY "+index).Where("application_id = ? AND next_at <= ?", s.app.ID, s.Now().UTC()).
		Where(where, args...)
	if len(inHand) > 0 {
		db = db.Where("id NOT IN (SELECT value FROM json_each(?))", ground.MustJSON(inHand))
	}
	if index == "kept_state" {
		db = db.Order("next_at")
	}
	var rows []*store.KeptAccount
	err := db.Limit(s.most()).Find(&rows).Error
	return rows, store.Clear(err)
}

// hold notes that accounts are on their way.
func (s *sender) hold(rows []*store.KeptAccount) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, row := range rows {
		s.inHand[row.ID] = true
	}
}

func (s *sender) holding() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.inHand)
}

func (s *sender) heldIDs() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Collect(maps.Keys(s.inHand))
}

// wait waits until no more accounts than so many are on their way, and says whether to go on.
func (s *sender) wait(ctx context.Context, most int) bool {
	for s.halted() == nil && ctx.Err() == nil {
		if s.holding() <= most {
			return true
		}
		select {
		case <-s.moved:
		case <-ctx.Done():
		}
	}
	return false
}

func (s *sender) halted() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.stopped
}

func (s *sender) halt(why error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stopped == nil {
		s.stopped = why
	}
	signal(s.moved)
}

// one sends one account, unless nothing is sent any more.
func (s *sender) one(ctx context.Context, p parcel) {
	if ctx.Err() != nil || s.halted() != nil {
		return
	}
	row := p.row
	what, turn := row.Would, row.Turn
	t := p.of.talk.again()
	way := &sending{talk: t, able: p.of.able, row: row, who: p.of.people[row.WhoID]}
	var err error
	if row.Kind == OfGroup {
		err = way.sendGroup(ctx)
	} else {
		err = way.send(ctx)
	}
	if ctx.Err() != nil {
		return // it is not known how it went; it is looked up when it is sent again
	}
	var stop *paused
	if errors.As(err, &stop) {
		s.halt(err)
		return
	}
	s.keep(&sent{row: row, turn: turn, retell: way.retell, talk: t.record(row.ID, what, way.result, way.failed)})
}

// keep notes that an account was sent, and has it written with others.
func (s *sender) keep(one *sent) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sent = append(s.sent, one)
	s.count++
	if len(s.sent) >= written || len(s.sent) == len(s.inHand) {
		signal(s.full)
	}
}

// keepWriting writes what was sent until it is told to stop.
func (s *sender) keepWriting(ctx context.Context) {
	tick := time.NewTicker(writtenFor)
	defer tick.Stop()
	for {
		select {
		case <-s.full:
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		if err := s.flush(ctx); err != nil {
			s.halt(err)
			return
		}
	}
}

// flush writes how it went with those that were sent.
func (s *sender) flush(ctx context.Context) error {
	s.mu.Lock()
	list := s.sent
	s.sent = nil
	s.mu.Unlock()
	if len(list) == 0 {
		return nil
	}
	ctx = context.WithoutCancel(ctx) // it was sent; that has to be known
	if err := s.Store.Traces.Write(ctx, func(tx *gorm.DB) error { return saveTalks(tx, list) }); err != nil {
		s.Log.WarnContext(ctx, "what was said about accounts could not be kept", "error", err)
	}
	if err := s.Store.Write(ctx, func(tx *gorm.DB) error {
		for _, one := range list {
			if err := saveSent(tx, one); err != nil {
				return err
			}
		}
		if err := s.retellGroups(tx, list); err != nil {
			return err
		}
		return savePump(tx, s.app.ID, map[string]any{"paused_until": nil, "tries": 0, "code": "", "reason": ""})
	}); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, one := range list {
		delete(s.inHand, one.row.ID)
	}
	signal(s.moved)
	return nil
}

func saveTalks(tx *gorm.DB, list []*sent) error {
	for _, one := range list {
		k := one.talk
		if _, err := store.Exec(tx, "INSERT INTO account_talks (id, application_id, account_id, at, what, result, code, entries, micros) "+
			"VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", k.ID, k.ApplicationID, k.AccountID, k.At, k.What, k.Result, k.Code, k.Entries,
			k.Micros); err != nil {
			return err
		}
	}
	return nil
}

// saveSent writes what was learnt of an account there, and how it stands, unless it became due anew meanwhile.
func saveSent(tx *gorm.DB, one *sent) error {
	const learnt = "UPDATE kept_accounts SET remote_id = ?, remote_name = ?, version = ?, there = ?, sent = ?, unkept = ?"
	r := one.row
	args := []any{r.RemoteID, r.RemoteName, r.Version, r.There, r.Sent, r.Unkept}
	n, err := store.Exec(tx, learnt+", state = ?, next_at = ?, would = ?, tries = ?, code = ?, reason = ?, drift = ?, agreed = ?, "+
		"approved = ?, removed_at = ?, updated_at = ? WHERE id = ? AND turn = ?", append(args[:6:6], r.State, r.NextAt, r.Would, r.Tries,
		r.Code, r.Reason, r.Drift, r.Agreed, r.Approved, r.RemovedAt, r.UpdatedAt, r.ID, one.turn)...)
	if err == nil && n == 0 {
		_, err = store.Exec(tx, learnt+" WHERE id = ?", append(args[:6:6], r.ID)...)
	}
	return err
}

// retellGroups has groups be looked at whose members have another account than before.
func (s *sender) retellGroups(tx *gorm.DB, list []*sent) error {
	var ids []string
	for _, one := range list {
		if one.retell && one.row.Kind == OfPerson {
			ids = append(ids, one.row.WhoID)
		}
	}
	for part := range slices.Chunk(ids, atOnce) {
		if err := tx.Exec("UPDATE kept_accounts SET state = 'due', next_at = ?, turn = turn + 1 WHERE application_id = ? AND "+
			"kind = 'group' AND state IN ('step', 'due', 'again') AND who_id IN (SELECT group_id FROM memberships WHERE person_id IN ?)",
			s.Now().UTC(), s.app.ID, part).Error; err != nil {
			return err
		}
	}
	return nil
}
