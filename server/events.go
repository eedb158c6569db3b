package server

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"sync/atomic"
	"time"

	"github.com/gofiber/fiber/v3"

	"innergate/api"
)

const (
	heartbeat = 10 * time.Second
	followers = 100 // at one time
	followFor = time.Hour
)

// events is an answer that goes on as server-sent events (HTML Standard, section 9.2): the function sends until it
// returns, or until sending fails.
type events func(ctx context.Context, send func(name string, v any) error) error

// following counts the streams that are open.
var following atomic.Int64

// stream sends events. A follower who went away is noticed when something is sent to it, at the latest by the next
// heartbeat; nothing waits for it.
func (s *Server) stream(c fiber.Ctx, run events) error {
	if following.Add(1) > followers {
		following.Add(-1)
		return &api.Problem{
			Type:   "about:blank",
			Status: http.StatusTooManyRequests,
			Title:  "Too many are following",
			Code:   "followers",
			Detail: fmt.Sprintf("%d streams are open already.", followers),
			Remedy: "Close some, or ask for the record from time to time.",
		}
	}
	c.Set("Content-Type", "text/event-stream")
	c.Set("X-Accel-Buffering", "no")
	done := c.RequestCtx().Done() // the server's shutdown
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer following.Add(-1)
		ctx, stop := context.WithTimeout(context.Background(), followFor)
		defer stop()
		go func() {
			select {
			case <-done:
				stop()
			case <-ctx.Done():
			}
		}()
		last := time.Now()
		send := func(name string, v any) error {
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
