package management

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"

	"innergate/api"
	"innergate/gate/ground"
)

const (
	heartbeat    = 10 * time.Second
	followers    = 100 // at one time
	followersOne = 10  // of one person
	followFor    = time.Hour
	askAgain     = time.Second // whether a follower still may
)

// events is an answer that goes on as server-sent events (HTML Standard, section 9.2): the function sends until it
// returns, or until sending fails.
type events func(ctx context.Context, send func(name string, v any) error) error

// following counts the streams that are open, in all and by who follows.
type following struct {
	mu  sync.Mutex
	all int
	by  map[string]int
}

func (f *following) begin(who string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.all >= followers || f.by[who] >= followersOne {
		return false
	}
	if f.by == nil {
		f.by = map[string]int{}
	}
	f.all++
	f.by[who]++
	return true
}

func (f *following) end(who string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.all--
	if f.by[who]--; f.by[who] == 0 {
		delete(f.by, who)
	}
}

// stillMay is asked from time to time whether somebody may go on following. It holds what they have shown by itself, since
// the request is over by then.
func (s *management) stillMay(c fiber.Ctx, was ground.Actor) func(ctx context.Context) bool {
	shown, from := s.shownBy(c), s.Address(c)
	return func(ctx context.Context) bool {
		who, err := s.actorBy(ctx, shown, from)
		return err == nil && who.ID == was.ID && who.Role == was.Role
	}
}

// stream sends events. A follower who went away is noticed when something is sent to it, at the latest by the next
// heartbeat; nothing waits for it. One who may no longer read, or whose role has changed, gets nothing more.
func (s *management) stream(c *call, run events) error {
	who := c.who
	if !s.following.begin(who.ID) {
		return &api.Problem{
			Type:   "about:blank",
			Status: http.StatusTooManyRequests,
			Title:  "Too many are following",
			Code:   "followers",
			Detail: fmt.Sprintf("%d streams are open already, or %d of yours.", followers, followersOne),
			Remedy: "Close some, or ask for the record from time to time.",
		}
	}
	c.Set("Content-Type", "text/event-stream")
	c.Set("X-Accel-Buffering", "no")
	done, still := c.RequestCtx().Done(), s.stillMay(c.Ctx, who) // done is the server's shutdown
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer s.following.end(who.ID)
		ctx, stop := context.WithTimeout(context.Background(), followFor)
		defer stop()
		go func() {
			select {
			case <-done:
				stop()
			case <-ctx.Done():
			}
		}()
		last, asked := time.Now(), time.Now()
		send := func(name string, v any) error {
			if time.Since(asked) > askAgain {
				if !still(ctx) {
					return errNoLonger
				}
				asked = time.Now()
			}
			if name == "" { // nothing new
				if time.Since(last) < heartbeat {
					return nil
				}
				fmt.Fprint(w, ": still here\n\n")
			} else {
				data, err := json.Marshal(v)
				if err != nil {
					return err
				}
				fmt.Fprintf(w, "event: %s\ndata: %s\n\n", name, data)
			}
			last = time.Now()
			return w.Flush()
		}
		if err := send("begin", struct{}{}); err != nil {
			return
		}
		if err := run(ctx, send); err == nil {
			_ = send("end", struct{}{})
		}
	})
}

// errNoLonger ends a stream whose follower may not read it any more.
var errNoLonger = errors.New("the follower may not read this any more")
