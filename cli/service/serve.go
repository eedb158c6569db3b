package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/urfave/cli/v3"

	"innergate/backup"
	"innergate/cli/terminal"
	"innergate/gate"
	"innergate/gate/fetch"
	"innergate/guard"
	"innergate/nodes"
	"innergate/server"
	"innergate/server/management"
	"innergate/store"
)

// settings is where a flag's value comes from besides the command line: the environment, then the settings file.
func settings(file *string, name string) cli.ValueSourceChain {
	return cli.NewValueSourceChain(
		cli.EnvVar("INNERGATE_"+strings.ToUpper(strings.ReplaceAll(name, "-", "_"))), &settingsSource{file, name},
	)
}

// settingsSource reads one value out of a YAML file whose keys are the flags' names.
type settingsSource struct {
	file *string
	key  string
}

func (s *settingsSource) Lookup() (string, bool) {
	if *s.file == "" {
		return "", false
	}
	data, err := os.ReadFile(*s.file)
	if err != nil {
		return "", false
	}
	var values map[string]any
	if yaml.Unmarshal(data, &values) != nil {
		return "", false
	}
	v, ok := values[s.key]
	if list, is := v.([]any); is {
		parts := make([]string, len(list))
		for i, one := range list {
			parts[i] = fmt.Sprint(one)
		}
		return strings.Join(parts, ","), true
	}
	return fmt.Sprint(v), ok
}

func (s *settingsSource) String() string { return "settings file, key " + s.key }

func (s *settingsSource) GoString() string { return s.String() }

var serveKeys = []string{
	"listen",
	"public-url",
	"data",
	"master-key-file",
	"trusted-proxies",
	"tls-cert",
	"tls-key",
	"operations-listen",
	"allow-private-addresses",
	"public-metrics",
	"log-level",
	"log-format",
	"in-flight",
	"guard-listen",
	"guard-certificates",
	"backup-folder",
	"backup-hours",
	"backup-keep",
	"backup-recipients",
}

// checkSettings says what is wrong with a settings file before anything is taken from it.
func checkSettings(file string) error {
	if file == "" {
		return nil
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("the settings file %s can't be read: %w", file, err)
	}
	var values map[string]any
	if err := yaml.Unmarshal(data, &values); err != nil {
		return fmt.Errorf("the settings file %s is not YAML: %s", file, yaml.FormatError(err, false, false))
	}
	for key := range values {
		known := false
		for _, k := range serveKeys {
			known = known || k == key
		}
		if !known {
			return fmt.Errorf(
				"the settings file %s has the key %q, which is not known; the keys are %s", file, key,
				strings.Join(serveKeys, ", "),
			)
		}
	}
	return nil
}

// Serve is `innergate serve`: run the service.
func Serve(of *terminal.Program) *cli.Command {
	p := &commands{of}
	file := new(string)
	if v := os.Getenv("INNERGATE_SETTINGS"); v != "" {
		*file = v
	}
	flag := func(name, usage, value string) *cli.StringFlag {
		return &cli.StringFlag{Name: name, Usage: usage, Value: value, Sources: settings(file, name)}
	}
	return &cli.Command{
		Name: "serve", Usage: "run the service",
		Description: "Every flag can also be set by an environment variable (INNERGATE_ and its name in capitals, dashes as " +
			"underscores) or by a key in the settings\nfile (INNERGATE_SETTINGS). The master key can be given in INNERGATE_MASTER_KEY " +
			"as 32 bytes in base64; else it is kept in a file.",
		Flags: []cli.Flag{
			flag("listen", "address to listen on", "127.0.0.1:8420"),
			flag("public-url", "the address under which people and partners reach the gate", ""),
			flag("data", "folder for the database", "data"),
			flag("master-key-file", "file with the master key (default: master.key in the data folder)", ""),
			flag("trusted-proxies", "networks of proxies whose X-Forwarded-For is believed, such as 10.0.0.0/8, separated by commas", ""),
			flag("tls-cert", "certificate file, to serve TLS without a proxy", ""), flag("tls-key", "key file for it", ""),
			flag("operations-listen", "address for /healthz, /readyz and /metrics, apart from people's", ""),
			flag("guard-listen", "address on which applications behind the gate are reached, each by its host name", ""),
			flag(
				"guard-certificates",
				"folder with a NAME.crt and NAME.key for each host name there; without it the guard serves http, for a proxy in front",
				"",
			),
			&cli.BoolFlag{
				Name: "public-metrics", Usage: "serve /metrics to everybody, not on the operations address alone",
				Sources: settings(file, "public-metrics"),
			},
			&cli.BoolFlag{
				Name:    "allow-private-addresses",
				Usage:   "let the gate fetch partners' documents from private networks",
				Sources: settings(file, "allow-private-addresses"),
			},
			flag("backup-folder", "folder in which the service puts copies of its records by itself", ""),
			&cli.IntFlag{
				Name: "backup-hours", Usage: "hours from one copy to the next", Value: 24, Sources: settings(file, "backup-hours"),
			},
			&cli.IntFlag{Name: "backup-keep", Usage: "how many copies are kept", Value: 14, Sources: settings(file, "backup-keep")},
			flag("backup-recipients", "public keys of age to which copies are encrypted, separated by commas", ""),
			&cli.BoolFlag{
				Name:  "upgrade-together",
				Usage: "change also what nodes of an older version could not go on with: all nodes are being brought to this version now",
			},
			flag("log-level", "debug, info, warn or error", "info"), flag("log-format", "text or json", "text"),
			&cli.IntFlag{
				Name:    "in-flight",
				Usage:   "unfinished sign-ins allowed from one network address",
				Value:   500,
				Sources: settings(file, "in-flight"),
			},
		},
		Metadata: terminal.Examples(
			"innergate serve --public-url https://gate.saltmere.example --data /var/lib/innergate",
			"INNERGATE_PUBLIC_URL=http://localhost:8420 innergate serve",
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := checkSettings(*file); err != nil {
				return err
			}
			return p.runService(ctx, c)
		},
	}
}

func logger(w io.Writer, level, format string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, terminal.Usage("%q is no log level; debug, info, warn and error are", level)
	}
	switch format {
	case "text":
		return slog.New(slog.NewTextHandler(w, &slog.HandlerOptions{Level: l})), nil
	case "json":
		return slog.New(slog.NewJSONHandler(w, &slog.HandlerOptions{Level: l})), nil
	}
	return nil, terminal.Usage("%q is no log format; text and json are", format)
}

func proxies(text string) ([]netip.Prefix, error) {
	var out []netip.Prefix
	for part := range strings.SplitSeq(text, ",") {
		if part = strings.TrimSpace(part); part == "" {
			continue
		}
		if ip, err := netip.ParseAddr(part); err == nil {
			out = append(out, netip.PrefixFrom(ip, ip.BitLen()))
			continue
		}
		prefix, err := netip.ParsePrefix(part)
		if err != nil {
			return nil, terminal.Usage("%q is no network; write it as 10.0.0.0/8 or as one address", part)
		}
		out = append(out, prefix)
	}
	return out, nil
}

func serverTLS(cert, key string) (*tls.Config, error) {
	if cert == "" && key == "" {
		return nil, nil
	}
	if cert == "" || key == "" {
		return nil, terminal.Usage("--tls-cert and --tls-key go together")
	}
	pair, err := tls.LoadX509KeyPair(cert, key)
	if err != nil {
		return nil, fmt.Errorf("the TLS certificate can't be used: %w", err)
	}
	return &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{pair}}, nil
}

// heapMiB is from which size on the heap is kept small. What the database holds in memory comes to it.
const heapMiB = 160

// threadsEach is how many threads run at one time for each processor; many processors need no more than they are.
const (
	threadsEach = 4
	mostThreads = 16
)

func (p *commands) runService(ctx context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return terminal.Usage("%q is too much. See `innergate serve --help`", c.Args().First())
	}
	log, err := logger(p.Err, c.String("log-level"), c.String("log-format"))
	if err != nil {
		return err
	}
	// The heap is small; to collect it less often costs some 12 MiB and saves a tenth of a sign-in's processor time.
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(300)
	}
	// More threads than processors: what works for long beside leaves the processor to whoever signs in as soon as the system, which
	// shares it out more finely than we could, says so.
	if os.Getenv("GOMAXPROCS") == "" {
		given := runtime.GOMAXPROCS(0) // as many as the system lets us have
		runtime.GOMAXPROCS(max(given, min(threadsEach*given, mostThreads)))
	}
	// With more than this in use it is collected more often rather than less.
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(heapMiB << 20)
	}
	trusted, err := proxies(c.String("trusted-proxies"))
	if err != nil {
		return err
	}
	copies, err := schedule(c, log)
	if err != nil {
		return err
	}
	tlsConfig, err := serverTLS(c.String("tls-cert"), c.String("tls-key"))
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", c.String("listen"))
	if err != nil {
		return fmt.Errorf(
			"the address %s can't be listened on: %w. Is another program using it? Choose another with --listen",
			c.String("listen"), rootCause(err),
		)
	}
	defer listener.Close()
	public := c.String("public-url")
	if public == "" {
		public = "http://" + listener.Addr().String()
		if tlsConfig != nil {
			public = "https://" + listener.Addr().String()
		}
		log.Warn("no public URL is set; entity IDs and addresses that are handed out will hold the listen address", "public-url", public)
	}
	g, closeStore, err := openGate(ctx, c, public, p.Version, log, copies)
	if err != nil {
		return err
	}
	defer closeStore()
	options := server.Options{TrustedProxies: trusted, Console: p.Console, Log: log, OwnOperations: c.String("operations-listen") != "",
		PublicMetrics: c.Bool("public-metrics"), Languages: os.DirFS(filepath.Join(c.String("data"), "languages"))}
	g.Copies.Schedule = copies
	if copies.Folder != "" {
		options.NewestCopy = copies.Newest
	}
	s := server.New(g, options)
	if at := c.String("operations-listen"); at != "" {
		l, err := net.Listen("tcp", at)
		if err != nil {
			return fmt.Errorf("the operations address %s can't be listened on: %w", at, rootCause(err))
		}
		ops := s.Operations()
		defer ops.ShutdownWithTimeout(time.Second)
		go ops.Listener(l, operationsConfig) // ends with Shutdown
	}
	needed, err := g.Console.SetupNeeded(ctx)
	switch {
	case ctx.Err() != nil:
		return nil // somebody has stopped it before it was ready
	case err != nil:
		return err
	case needed:
		fmt.Fprintf(p.Out,
			"\nNobody can sign in to the console yet. Open this link, once, to become the first administrator (or run `innergate set-up`):"+
				"\n\n  %s\n\n",
			g.Console.NewSetupLink())
	}
	if at := c.String("guard-listen"); at != "" {
		stop, err := startGuard(g, at, c.String("guard-certificates"), guard.Options{TrustedProxies: trusted, Log: log})
		if err != nil {
			return err
		}
		defer stop()
	}
	if copies.Folder != "" {
		go copies.Run(ctx)
	}
	log.Info("Inner Gate is ready", "public-url", g.PublicURL, "listen", listener.Addr().String(), "version", p.Version)
	return serveUntil(ctx, s, listener, tlsConfig, g, log)
}

func rootCause(err error) error {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err
		}
		err = inner
	}
}

// openGate opens the records, and makes a gate over them. Copies, where there are any to be made, learn where the records are.
func openGate(
	ctx context.Context,
	c *cli.Command,
	public, version string,
	log *slog.Logger,
	copies *backup.Schedule,
) (*gate.Gate, func(), error) {
	folder := c.String("data")
	file := c.String("master-key-file")
	if file == "" {
		file = filepath.Join(folder, "master.key")
	}
	// A new key is made for a new database only; beside an old one it would open nothing.
	_, statErr := os.Stat(filepath.Join(folder, store.FileName))
	var err error
	if err = os.MkdirAll(folder, 0o700); err != nil {
		return nil, nil, fmt.Errorf("the data folder %s can't be made: %w", folder, rootCause(err))
	}
	fresh := errors.Is(statErr, os.ErrNotExist)
	if nodes.IsNode(folder) && fresh { // nor beside the records of others
		if fresh, err = nodes.First(folder); err != nil {
			return nil, nil, err
		}
	}
	master, err := store.MasterKeys(os.Getenv("INNERGATE_MASTER_KEY"), file, fresh)
	if err != nil {
		return nil, nil, err
	}
	release, err := store.Hold(folder, false)
	if err != nil {
		return nil, nil, err
	}
	sealer, err := store.NewSealer(master[0], master[1:]...)
	if err != nil {
		return nil, nil, err
	}
	st, together, err := openRecords(ctx, folder, sealer, c.Bool("upgrade-together"), log)
	if err != nil {
		release()
		return nil, nil, err
	}
	g, err := gate.New(
		ctx,
		gate.Options{
			Store:     st,
			PublicURL: public,
			Version:   version,
			Log:       log,
			Fetch:     &fetch.Fetcher{AllowPrivate: c.Bool("allow-private-addresses")},
			InFlight:  c.Int("in-flight"),
		},
	)
	if err == nil && together != nil {
		if copies != nil {
			copies.Source = together.Copy
		}
		err = joinIn(ctx, g, together, folder)
	}
	if err != nil {
		if g != nil {
			g.Node.End()
		}
		st.Close()
		if together != nil {
			together.Close()
		}
		release()
		return nil, nil, err
	}
	return g, func() {
		if err := g.WriteUsed(context.WithoutCancel(ctx)); err != nil {
			log.Error("the last use of certificates could not be written down", "error", err)
		}
		if together != nil {
			leave(ctx, together, log)
			g.Node.End()
		}
		st.Close()
		if together != nil {
			together.Close()
		}
		release()
	}, nil
}

// serveUntil serves until the context ends, tidies up from time to time, and stops gracefully: requests under way are
// finished. Sign-ins in flight live in the store and go on after the next start.
func serveUntil(ctx context.Context, s *server.Server, l net.Listener, t *tls.Config, g *gate.Gate, log *slog.Logger) error {
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(l, t) }()
	tidy := time.NewTicker(time.Minute)
	defer tidy.Stop()
	go g.Run(ctx)
	for {
		select {
		case err := <-ended:
			return err
		case <-tidy.C:
			if err := g.Tidy(ctx); err != nil {
				log.Error("tidying up failed", "error", err)
			}
		case <-ctx.Done():
			log.Info("stopping; requests under way are finished")
			// What takes longer is cut off: somebody asked for the end, and gets it.
			if err := s.Shutdown(20 * time.Second); err != nil {
				log.Warn("not every request was finished in time; the others were cut off", "error", err)
			}
			return nil
		}
	}
}

// OpenAPI prints the description of the API, from which the console's types are made.
func OpenAPI(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "openapi",
		Usage:    "print the management API's OpenAPI description; needs no service",
		Metadata: terminal.Examples("innergate openapi > openapi.json"),
		Action: func(ctx context.Context, c *cli.Command) error {
			_, err := p.Out.Write(management.Description())
			return err
		},
	}
}
