// Package demo is the made-up world of Saltmere Ferries: a gate, its stand-ins and their people, running on loopback.
package demo

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	_ "embed"
	"encoding/base32"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"path/filepath"
	"sync"
	"sync/atomic"
	"text/template"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/backup"
	"innergate/client"
	"innergate/core/config"
	"innergate/core/files"
	"innergate/core/keys"
	"innergate/core/passwords"
	"innergate/core/saml"
	"innergate/gate"
	"innergate/gate/fetch"
	"innergate/gate/ground"
	"innergate/guard"
	"innergate/server"
	"innergate/standin"
	"innergate/store"
)

//go:embed saltmere.yaml
var scenario string

// Options says how the world is started.
type Options struct {
	// Folder holds the gate's data.
	Folder string
	// Ports are those of gate, Saltmere Staff, Crew Rota, Ticket Desk, Northquay Stevedores, Lantern Pass, Cargo
	// Ledger, Dockhand, Berth Board and Harbour Office; 0 takes a free one.
	Ports [10]int
	// TLS, if set, serves all of them by TLS under host names of .example; else they are reached by http at 127.0.0.1.
	TLS      *tls.Config
	Console  fs.FS
	Log      *slog.Logger
	Recorder *standin.Recorder
	Version  string
	// InFlight raises the gate's limit of sign-ins in flight, for load tests.
	InFlight int
	Now      func() time.Time
	// HoldMetadata is how long the stand-ins hold the gate's metadata before they fetch it again, default a minute.
	HoldMetadata time.Duration
	// KeySource makes the private keys of the gate and the stand-ins, default keys.Generate.
	KeySource keys.Source
	// PasswordCost is what the gate's password hashes cost, default passwords.Usual.
	PasswordCost passwords.Cost
}

// World is the running demo.
type World struct {
	URL, StaffURL, RotaURL, DeskURL                  string
	NorthquayURL, LanternURL, LedgerURL, DockhandURL string
	BerthsURL                                        string // where the gate's guard stands before Berth Board
	OfficeURL                                        string // where Harbour Office is asked by LDAP

	Gate               *gate.Gate
	Staff              *standin.Provider
	Rota, Desk         *standin.Application
	Northquay, Lantern *standin.OpenID
	Ledger, Dockhand   *standin.Client
	Office             *standin.Office
	// LedgerAccounts is Cargo Ledger's SCIM side, below /scim/v2; its page is at /accounts.
	LedgerAccounts *standin.Accounts
	// Stevedores pushes the people of Northquay Stevedores to the gate.
	Stevedores *standin.Sender
	// Quayside is a realm with desks on the quays; its page is beside Saltmere Staff, below /quayside.
	Quayside *standin.Quayside
	// Berths is Berth Board itself, at its inner address InnerURL; Guard stands before it.
	Berths   *standin.Berths
	InnerURL string
	Guard    *guard.Guard
	// Mailbox takes the gate's mails; its page is beside Saltmere Staff, below /mailbox.
	Mailbox *standin.Mailbox
	// Harbours is a federation whose metadata is served beside Saltmere Staff, below /harbours.
	Harbours *standin.Federation
	// Token is an API token of an engineer; Name and Password are an owner's.
	Token, Name, Password string

	folder  string
	store   *store.Store
	server  *server.Server
	closers []func()

	hold       time.Duration
	back       atomic.Int64 // nanoseconds by which the clocks are put back
	stop       func()       // ends what the gate does from time to time
	transport  http.RoundTripper
	remembered sync.Map
}

var hosts = [10]string{
	"gate.saltmere.example",
	"id.saltmere.example",
	"rota.saltmere.example",
	"desk.saltmere.example",
	"id.northquay.example",
	"lantern.example",
	"ledger.saltmere.example",
	"dockhand.saltmere.example",
	"berths.saltmere.example",
	"office.harbour.example",
}

// Hosts are the names under which the world is served by TLS.
func Hosts() []string { return hosts[:] }

// Start starts everything.
func Start(ctx context.Context, o Options) (w *World, err error) {
	w = &World{folder: o.Folder, hold: o.HoldMetadata}
	if w.hold == 0 {
		w.hold = time.Minute
	}
	defer func() {
		if err != nil {
			w.Close()
		}
	}()
	if o.Now == nil {
		o.Now = func() time.Time { return time.Now().Add(-time.Duration(w.back.Load())) }
	}
	var listeners [10]net.Listener
	var urls [10]string
	for i := range listeners {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", o.Ports[i]))
		if err != nil {
			return w, fmt.Errorf("the port %d can't be used: %w. Give other ports, or stop what uses it", o.Ports[i], err)
		}
		listeners[i] = l
		w.closers = append(w.closers, func() { l.Close() })
		port := l.Addr().(*net.TCPAddr).Port
		urls[i] = fmt.Sprintf("http://127.0.0.1:%d", port)
		if i == 0 {
			urls[i] = fmt.Sprintf("http://localhost:%d", port) // passkeys are bound to a host name
		}
		if o.TLS != nil {
			urls[i] = fmt.Sprintf("https://%s:%d", hosts[i], port)
		}
	}
	w.URL, w.StaffURL, w.RotaURL, w.DeskURL = urls[0], urls[1], urls[2], urls[3]
	w.NorthquayURL, w.LanternURL, w.LedgerURL, w.DockhandURL = urls[4], urls[5], urls[6], urls[7]
	w.BerthsURL = urls[8]
	w.OfficeURL = fmt.Sprintf("ldaps://localhost:%d", listeners[9].Addr().(*net.TCPAddr).Port)
	if o.TLS != nil {
		w.transport = loopbackTransport(o.TLS)
	}
	if err := w.standins(o); err != nil {
		return w, err
	}
	post, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return w, err
	}
	w.Mailbox = &standin.Mailbox{}
	w.closers = append(w.closers, func() { w.Mailbox.Close() })
	go w.Mailbox.Serve(post) // ends with Close
	if err := w.berths(); err != nil {
		return w, err
	}
	if err := w.openGate(ctx, o); err != nil {
		return w, err
	}
	go w.Guard.Serve(listeners[8], o.TLS) // ends with Shutdown
	go w.Office.Serve(listeners[9])       // ends with the listener
	if _, err := w.Gate.SetMail(ctx, ground.System,
		api.SaveMail{Mail: config.Mail{Server: post.Addr().String(), Encryption: "none",
			From: "Inner Gate <gate@saltmere.example>"}}); err != nil {
		return w, err
	}
	go func() {
		if err := w.server.Serve(listeners[0], o.TLS); err != nil && !errors.Is(err, net.ErrClosed) && o.Log != nil {
			o.Log.Error("the gate's server ended", "error", err)
		}
	}()
	staff := http.NewServeMux()
	staff.Handle("/harbours/", http.StripPrefix("/harbours", w.Harbours.Handler()))
	staff.Handle("/mailbox", w.Mailbox.Handler())
	staff.Handle("/quayside", w.quaysidePage())
	staff.Handle("/", w.Staff.Handler())
	for i, h := range []http.Handler{staff, w.Rota.Handler(), w.Desk.Handler(), w.Northquay.Handler(), w.Lantern.Handler(),
		w.ledger(), w.Dockhand.Handler()} {
		l := listeners[i+1]
		if o.TLS != nil {
			l = tls.NewListener(l, o.TLS)
		}
		s := &http.Server{
			Handler:           h,
			ReadHeaderTimeout: 10 * time.Second,
			ErrorLog:          slog.NewLogLogger(slog.DiscardHandler, slog.LevelDebug),
		}
		w.closers = append(w.closers, func() { s.Close() })
		go s.Serve(l) // ends with Close
	}
	if err := w.answering(ctx); err != nil {
		return w, err
	}
	return w, w.accounts(ctx)
}

// berths starts Berth Board at an inner address.
func (w *World) berths() error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	w.Berths, w.InnerURL = &standin.Berths{
		Name:         "Berth Board",
		Header:       "X-Berth-User",
		GroupsHeader: "X-Berth-Groups",
	}, "http://"+l.Addr().
		String()
	s := &http.Server{Handler: w.Berths.Handler(), ReadHeaderTimeout: 10 * time.Second}
	w.closers = append(w.closers, func() { s.Close() })
	go s.Serve(l) // ends with Close
	return nil
}

// answering waits until the gate answers.
func (w *World) answering(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for {
		walker := NewWalker(w.transport)
		err := walker.Get(ctx, w.URL+"/readyz")
		if err == nil && walker.Status == http.StatusOK {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the gate does not answer at %s: %w", w.URL, err)
		case <-time.After(5 * time.Millisecond):
		}
	}
}

func (w *World) standins(o Options) error {
	var err error
	if w.Staff, err = standin.NewProvider("Saltmere Staff", w.StaffURL, staff(), 430*24*time.Hour, o.KeySource); err != nil {
		return err
	}
	if w.Rota, err = standin.NewApplication("Crew Rota", w.RotaURL, o.KeySource); err != nil {
		return err
	}
	if w.Desk, err = standin.NewApplication("Ticket Desk", w.DeskURL, o.KeySource); err != nil {
		return err
	}
	if w.Harbours, err = standin.NewFederation("Harbours of the Quiet Coast", harbours(), o.KeySource); err != nil {
		return err
	}
	if err := w.openidStandins(o); err != nil {
		return err
	}
	if w.Office, err = standin.NewOffice(); err != nil {
		return err
	}
	w.Desk.SPInitiatedOnly, w.Desk.BackChannelLogout = true, true
	w.Desk.Format = saml.FormatPersistent
	w.Desk.Behave(standin.ApplicationHabits{Context: saml.ContextPassword})
	w.Staff.Recorder, w.Rota.Recorder, w.Desk.Recorder = o.Recorder, o.Recorder, o.Recorder
	if o.Now != nil {
		w.Staff.Now, w.Rota.Now, w.Desk.Now, w.Harbours.Now = o.Now, o.Now, o.Now, o.Now
	}
	w.Staff.Starts = [][2]string{{"Crew Rota", w.URL + "/start/crew-rota"}, {"Ticket Desk", w.URL + "/start/ticket-desk"}}
	w.Staff.Partner = w.URL + "/saml/sp"
	// The stand-ins fetch the gate's metadata over the network when they first need it, and hold it.
	w.Staff.FindPartner = func(entityID string) (*standin.Partner, error) {
		if entityID != w.URL+"/saml/sp" {
			return nil, errors.New("it is not the gate")
		}
		entity, err := w.ours("/saml/sp/saltmere-staff/metadata")
		if err != nil {
			return nil, err
		}
		role := entity.Role(saml.RoleSP)
		if role == nil {
			return nil, errors.New("the gate's metadata holds no service provider")
		}
		return &standin.Partner{
			EntityID:     entityID,
			ACS:          role.Service(saml.ServiceACS)[0].Location,
			SLO:          role.Service(saml.ServiceSLO)[0].Location,
			Certificates: role.Certificates("signing"),
		}, nil
	}
	idp := func(path string) func() (*standin.IDP, error) {
		return func() (*standin.IDP, error) {
			entity, err := w.ours(path)
			if err != nil {
				return nil, err
			}
			role := entity.Role(saml.RoleIDP)
			if role == nil {
				return nil, errors.New("the gate's metadata holds no identity provider")
			}
			return &standin.IDP{
				EntityID:     entity.EntityID,
				SSO:          role.Service(saml.ServiceSSO)[0].Location,
				SLO:          role.Service(saml.ServiceSLO)[0].Location,
				Artifact:     role.Service(saml.ServiceArtifact)[0].Location,
				Certificates: role.Certificates("signing"),
			}, nil
		}
	}
	// Crew Rota takes the metadata from an address of its own, by which the gate knows who fetched; Ticket Desk takes
	// the one for everybody.
	w.Rota.IDP, w.Desk.IDP = idp("/saml/idp/crew-rota/metadata"), idp("/saml/idp/metadata")
	w.Rota.Transport, w.Desk.Transport = w.transport, w.transport
	return nil
}

// heldMetadata is the gate's metadata as a stand-in holds it.
type heldMetadata struct {
	entity *saml.Entity
	at     time.Time
}

// ours fetches the gate's metadata as a partner would, and again when it was held for long enough. Where the gate can't
// be reached, what is held goes on being used.
func (w *World) ours(path string) (*saml.Entity, error) {
	var held *heldMetadata
	if h, ok := w.remembered.Load(path); ok {
		if held = h.(*heldMetadata); time.Since(held.at) < w.hold {
			return held.entity, nil
		}
	}
	walker := NewWalker(w.transport)
	err := walker.Get(context.Background(), w.URL+path)
	if err == nil {
		read := saml.ReadMetadata([]byte(walker.Text), time.Now())
		if len(read.Entities) == 1 && read.Usable() {
			w.remembered.Store(path, &heldMetadata{&read.Entities[0], time.Now()})
			return &read.Entities[0], nil
		}
		err = errors.New("the gate's metadata can't be read")
	}
	if held != nil {
		return held.entity, nil
	}
	return nil, err
}

// Fetch has the stand-ins fetch the gate's metadata now.
func (w *World) Fetch() error {
	w.remembered.Clear()
	for _, idp := range []func() (*standin.IDP, error){w.Rota.IDP, w.Desk.IDP} {
		if _, err := idp(); err != nil {
			return err
		}
	}
	_, err := w.Staff.FindPartner(w.Staff.Partner)
	return err
}

// derived is another secret in each data folder, and the same one whenever that folder is used again.
func derived(master []byte, what string) string {
	sum := hmac.New(sha256.New, master)
	sum.Write([]byte(what))
	return base32.StdEncoding.EncodeToString(sum.Sum(nil))[:16]
}

func (w *World) openGate(ctx context.Context, o Options) error {
	master, err := store.MasterKeys("", filepath.Join(o.Folder, "master.key"), true)
	if err != nil {
		return err
	}
	sealer, err := store.NewSealer(master[0], master[1:]...)
	if err != nil {
		return err
	}
	if w.store, err = store.Open(o.Folder, sealer); err != nil {
		return err
	}
	w.closers = append(w.closers, w.store.Close)
	w.Gate, err = gate.New(
		ctx,
		gate.Options{
			Store:        w.store,
			PublicURL:    w.URL,
			Version:      o.Version,
			Log:          o.Log,
			Fetch:        &fetch.Fetcher{AllowPrivate: true, Transport: w.transport, StandIns: w.standIns()},
			InFlight:     o.InFlight,
			Now:          o.Now,
			KeySource:    o.KeySource,
			PasswordCost: o.PasswordCost,
		},
	)
	if err != nil {
		return err
	}
	w.Gate.Copies.Schedule = &backup.Schedule{
		Data: w.folder, Folder: filepath.Join(w.folder, "copies"), Every: 24 * time.Hour, Keep: 14, Log: w.Gate.Log, Now: w.Gate.Now,
	}
	w.server = server.New(w.Gate, server.Options{Console: o.Console, Log: o.Log, PublicMetrics: true})
	w.Guard = guard.New(w.Gate, guard.Options{Log: o.Log})
	w.closers = append(w.closers, func() { w.server.Shutdown(5 * time.Second) }, func() { w.Guard.Shutdown(time.Second) })
	running, stop := context.WithCancel(context.Background())
	w.closers, w.stop = append(w.closers, stop), stop
	go w.Gate.Run(running)
	w.Name, w.Password = "Fenna", derived(master[0], "the demo's administrator")
	w.Quayside = standin.NewQuayside(derived(master[0], "Quayside Desk"))
	w.Northquay.SetSecret(clientID, derived(master[0], w.Northquay.Name)+derived(master[0], "more"))
	w.Lantern.SetSecret(clientID, derived(master[0], w.Lantern.Name)+derived(master[0], "more"))
	w.LedgerAccounts.Token = derived(master[0], "the ledger's accounts") + derived(master[0], "more of it")
	return w.furnish(ctx)
}

// furnish loads the scenario and makes the administrator and the token with which the demo is looked at.
func (w *World) furnish(ctx context.Context) error {
	text, err := w.Scenario()
	if err != nil {
		return err
	}
	if _, err := w.Gate.Changes.LoadConfig(ctx, ground.System,
		api.LoadConfig{Files: []files.Text{{Name: "saltmere.yaml", Text: text}}}); err != nil {
		return fmt.Errorf("the scenario can't be loaded: %w", err)
	}
	if needed, err := w.Gate.Console.SetupNeeded(ctx); err != nil {
		return err
	} else if needed {
		if _, err := w.Gate.Console.AddAdministrator(ctx, ground.System,
			api.NewAdministrator{Name: w.Name, Role: ground.RoleOwner, Password: w.Password}); err != nil {
			return err
		}
	}
	if err := w.agency(ctx); err != nil {
		return err
	}
	if err := w.secrets(ctx); err != nil {
		return err
	}
	token, err := w.Gate.Console.NewToken(ctx, ground.System, api.NewToken{Name: "demo", Role: ground.RoleOwner, Days: 1})
	if err != nil {
		return err
	}
	w.Token = token.Secret
	return nil
}

// Scenario is the demo's configuration file with this world's addresses and certificates.
func (w *World) Scenario() (string, error) {
	quoted := func(doc []byte, err error) (string, error) {
		if err != nil {
			return "", err
		}
		read := saml.ReadMetadata(doc, time.Now())
		cert := read.Entities[0].Roles[0].Certificates("signing")[0]
		pem, err := json.Marshal(string(keys.EncodeCertificate(cert.Raw)))
		return string(pem), err
	}
	staffCert, err := quoted(w.Staff.Metadata())
	if err != nil {
		return "", err
	}
	rotaCert, err := quoted(w.Rota.Metadata())
	if err != nil {
		return "", err
	}
	harbours, err := json.Marshal(w.Harbours.Certificate())
	if err != nil {
		return "", err
	}
	office, err := json.Marshal(w.Office.Certificate)
	if err != nil {
		return "", err
	}
	t, err := template.New("scenario").Parse(scenario)
	if err != nil {
		return "", err
	}
	var b bytes.Buffer
	err = t.Execute(
		&b,
		map[string]string{
			"Staff":               w.StaffURL,
			"StaffEntityID":       w.Staff.EntityID(),
			"StaffCertificate":    staffCert,
			"Rota":                w.RotaURL,
			"RotaEntityID":        w.Rota.EntityID(),
			"RotaCertificate":     rotaCert,
			"HarboursCertificate": string(harbours),
			"Northquay":           w.NorthquayURL,
			"Lantern":             w.LanternURL,
			"Ledger":              w.LedgerURL,
			"Dockhand":            w.DockhandURL,
			"Berths":              w.BerthsURL,
			"BerthsInner":         w.InnerURL,
			"Office":              w.OfficeURL,
			"OfficeCertificate":   string(office),
			"OfficeBase":          w.Office.Base,
			"OfficeGate":          w.Office.Gate,
		},
	)
	return b.String(), err
}

// Client is a client with the demo's token.
func (w *World) Client() *client.Client {
	c := client.New(w.URL, w.Token)
	if w.transport != nil {
		c.HTTP.Transport = w.transport
	}
	return c
}

// Walker is a new browser that reaches this world, also by TLS under its host names.
func (w *World) Walker() *Walker { return NewWalker(w.transport) }

// Reopen stops the gate and starts it again on the same folder and address, as an upgrade does; the stand-ins go on.
func (w *World) Reopen(folder string) (*World, error) {
	w.stop()
	if err := w.server.Shutdown(5 * time.Second); err != nil {
		return w, err
	}
	w.store.Close()
	l, err := net.Listen("tcp", w.URL[len("http://"):])
	if err != nil {
		return w, err
	}
	w.closers = append(w.closers, func() { l.Close() })
	if err := w.openGate(context.Background(), Options{Folder: folder}); err != nil {
		return w, err
	}
	go w.server.Serve(l, nil) // ends with Close
	return w, w.answering(context.Background())
}

// Detach stops the gate and gives up its port, so that a process of its own can serve this folder at this address. The
// stand-ins, which then fetch the gate's metadata over the network, go on.
func (w *World) Detach() string {
	w.stop()
	w.server.Shutdown(5 * time.Second)
	w.Guard.Shutdown(time.Second)
	w.store.Close()
	w.Gate = nil
	return w.folder
}

// SetActive marks the people of this name active or not, as the directory will.
func (w *World) SetActive(name string, active bool) error {
	return w.store.Write(context.Background(), func(tx *gorm.DB) error {
		return tx.Exec("UPDATE people SET active = ? WHERE name = ?", active, name).Error
	})
}

// Close stops everything, the newest first.
func (w *World) Close() {
	for i := len(w.closers) - 1; i >= 0; i-- {
		w.closers[i]()
	}
	w.closers = nil
}

// SelfSignedTLS makes a certificate authority and a server certificate for the world's host names, for tests over TLS.
func SelfSignedTLS() (*tls.Config, *x509.Certificate, error) {
	return newTestCA(hosts[:])
}

// standIns are the places at which the stand-ins of the other sides listen.
func (w *World) standIns() []string {
	var out []string
	for _, address := range []string{w.StaffURL, w.RotaURL, w.DeskURL, w.NorthquayURL, w.LanternURL, w.LedgerURL, w.DockhandURL,
		w.BerthsURL} {
		if u, err := url.Parse(address); err == nil {
			out = append(out, u.Host)
		}
	}
	return out
}
