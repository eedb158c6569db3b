package standin

import (
	"bufio"
	"crypto/sha1" //nolint:gosec // RFC 6455 wants it
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"sync/atomic"
	"time"
)

// Berths is an old application that knows nothing of signing in: a header says who comes, and it believes it. It must
// stand behind the gate.
type Berths struct {
	Name string
	// Header is the one that holds the user's name, GroupsHeader that with groups.
	Header, GroupsHeader string
	// Down has it answer 503.
	Down atomic.Bool
	// Visits counts what it was asked.
	Visits atomic.Int64
}

// Handler serves it.
func (b *Berths) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /favicon.ico", noPicture)
	show := func(place string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			render(
				w,
				http.StatusOK,
				"berths.html",
				map[string]any{
					"Name":   b.Name,
					"Place":  place,
					"Person": r.Header.Get(b.Header),
					"Groups": r.Header.Get(b.GroupsHeader),
					"Path":   r.URL.RequestURI(),
				},
			)
		}
	}
	mux.HandleFunc("/", show("Berths"))
	mux.HandleFunc("/harbour-master", show("Harbour master's desk"))
	mux.HandleFunc("/harbour-master/", show("Harbour master's desk"))
	mux.HandleFunc("/timetable", show("Timetable"))
	mux.HandleFunc("/seen", func(w http.ResponseWriter, r *http.Request) { r.Write(w) })
	mux.HandleFunc("/moved", func(w http.ResponseWriter, r *http.Request) {
		http.SetCookie(w, &http.Cookie{Name: "berth-view", Value: "week", Path: "/", Domain: "127.0.0.1"})
		http.SetCookie(w, &http.Cookie{Name: "ig-guard", Value: "made-up", Path: "/"})
		http.Redirect(w, r, "http://"+r.Host+"/timetable", http.StatusFound)
	})
	mux.HandleFunc("/health", func(w http.ResponseWriter, _ *http.Request) {
		if b.Down.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	})
	mux.HandleFunc("/slow", func(_ http.ResponseWriter, r *http.Request) {
		select {
		case <-r.Context().Done():
		case <-time.After(30 * time.Second):
		}
	})
	mux.HandleFunc("/tide", tide)
	mux.HandleFunc("/radio", radio)
	mux.HandleFunc("/echo", func(w http.ResponseWriter, r *http.Request) {
		if err := http.NewResponseController(w).EnableFullDuplex(); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		io.Copy(w, r.Body)
	})
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/health" {
			b.Visits.Add(1)
		}
		mux.ServeHTTP(w, r)
	})
}

// tide streams a line each tenth of a second.
func tide(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/event-stream")
	for i := 0; r.Context().Err() == nil; i++ {
		if _, err := fmt.Fprintf(w, "data: %d\n\n", i); err != nil {
			return
		}
		if http.NewResponseController(w).Flush() != nil {
			return
		}
		select {
		case <-r.Context().Done():
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// radio opens a WebSocket (RFC 6455, section 4.2.2) and sends back whatever comes, frame for frame.
func radio(w http.ResponseWriter, r *http.Request) {
	sum := sha1.Sum([]byte(r.Header.Get("Sec-WebSocket-Key") + "258EAFA5-E914-47DA-95CA-C5AB0DC85B11"))
	conn, rw, err := http.NewResponseController(w).Hijack()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	defer conn.Close()
	fmt.Fprintf(
		rw,
		"HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: %s\r\n\r\n",
		base64.StdEncoding.EncodeToString(sum[:]),
	)
	if rw.Flush() != nil {
		return
	}
	io.Copy(conn, bufio.NewReader(rw))
}
