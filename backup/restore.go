package backup

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"filippo.io/age"

	"innergate/store"
)

// Seen is what a copy holds, as far as it says what copy it is.
type Seen struct {
	Octets    int64
	Encrypted bool
	// OfTraces is set where it is the traces of sign-ins, and not the gate's records; Traces counts them.
	OfTraces                        bool
	Traces                          int64
	Applications, Providers, People int64
	// Newest is the time of the newest line of its journal, or of the newest trace.
	Newest time.Time
	Form   string // the newest step of migration
}

var encryptedMark = []byte("age-encryption.org/")

// opened gives the plain database of a copy: the copy itself, or what it is decrypted to in a folder.
func opened(file, folder string, keys []age.Identity) (plain string, encrypted bool, done func(), err error) {
	in, err := os.Open(file)
	if err != nil {
		return "", false, nil, fmt.Errorf("the copy can't be read: %w", err)
	}
	defer in.Close()
	read := bufio.NewReader(in)
	if head, _ := read.Peek(len(encryptedMark)); !bytes.Equal(head, encryptedMark) {
		return file, false, func() {}, nil
	}
	if len(keys) == 0 {
		return "", true, nil, fmt.Errorf("%s is encrypted. Name the file with its key by --identity", file)
	}
	r, err := age.Decrypt(read, keys...)
	if err != nil {
		return "", true, nil, fmt.Errorf("%s can't be decrypted with this key: %w", file, err)
	}
	name, err := temporary(folder)
	if err != nil {
		return "", true, nil, err
	}
	done = func() { os.Remove(name) }
	if err := writeFile(name, r); err != nil {
		done()
		return "", true, nil, fmt.Errorf("%s is not whole, or there is no room for it: %w", file, err)
	}
	return name, true, done, nil
}

// Verify reads a whole copy, and says what is in it: every page is looked at, and that the sums of sealed values are right is
// seen when they are opened with the master key.
func Verify(ctx context.Context, file string, keys []age.Identity) (*Seen, error) {
	plain, encrypted, done, err := opened(file, os.TempDir(), keys)
	if err != nil {
		return nil, err
	}
	defer done()
	seen, err := look(ctx, plain)
	if err != nil {
		return nil, fmt.Errorf("%s is no good copy: %w", file, err)
	}
	info, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	seen.Octets, seen.Encrypted = info.Size(), encrypted
	return seen, nil
}

func look(ctx context.Context, plain string) (*Seen, error) {
	c, closeIt, err := connection(ctx, "file:"+(&url.URL{Path: plain}).EscapedPath()+"?immutable=1&mode=ro")
	if err != nil {
		return nil, err
	}
	defer closeIt()
	var verdict string
	if err := c.QueryRowContext(ctx, "PRAGMA quick_check(1)").Scan(&verdict); err != nil {
		return nil, store.Clear(err)
	}
	if verdict != "ok" {
		return nil, errors.New("it is damaged: " + verdict)
	}
	s := &Seen{}
	var newest *time.Time
	if err := c.QueryRowContext(ctx, "SELECT NOT EXISTS (SELECT 1 FROM sqlite_master WHERE name = 'applications') AND EXISTS (SELECT 1 "+
		"FROM sqlite_master WHERE name = 'traces')").Scan(&s.OfTraces); err != nil {
		return nil, store.Clear(err)
	}
	type query struct {
		query string
		into  any
	}
	asked := []query{
		{"SELECT count(*) FROM applications", &s.Applications}, {"SELECT count(*) FROM providers", &s.Providers},
		{"SELECT count(*) FROM people", &s.People},
		{"SELECT coalesce((SELECT id FROM migrations ORDER BY rowid DESC LIMIT 1), '')", &s.Form},
		{"SELECT (SELECT at FROM journal_entries ORDER BY number DESC LIMIT 1)", &newest},
	}
	if s.OfTraces {
		asked = []query{{"SELECT count(*) FROM traces", &s.Traces}, {"SELECT id FROM migrations ORDER BY rowid DESC LIMIT 1", &s.Form},
			{"SELECT (SELECT started_at FROM traces ORDER BY id DESC LIMIT 1)", &newest}}
	}
	for _, q := range asked {
		if err := c.QueryRowContext(ctx, q.query).Scan(q.into); err != nil {
			return nil, fmt.Errorf("it is no database of Inner Gate: %w", store.Clear(err))
		}
	}
	if newest != nil {
		s.Newest = *newest
	}
	return s, nil
}

// Restore brings a copy back into a data folder, in which there must be no database. The master key is not part of it: it has to
// be put beside, or named, as before. Nothing stands in the folder until all of it does.
func Restore(ctx context.Context, file, folder string, keys []age.Identity) (*Seen, error) {
	release, err := store.Hold(folder, true)
	if err != nil {
		return nil, err
	}
	defer release()
	plain, encrypted, done, err := opened(file, folder, keys)
	if err != nil {
		return nil, err
	}
	defer done()
	seen, err := look(ctx, plain)
	if err != nil {
		return nil, fmt.Errorf("%s is no good copy, and was not brought back: %w", file, err)
	}
	seen.Encrypted = encrypted
	at := filepath.Join(folder, store.FileName)
	if seen.OfTraces {
		at = filepath.Join(folder, store.TracesFileName)
	}
	if err := nothingAt(at, folder); err != nil {
		return nil, err
	}
	if !encrypted { // else it was written here already
		if plain, err = copied(file, folder); err != nil {
			return nil, err
		}
		defer os.Remove(plain)
	}
	if err := os.Rename(plain, at); err != nil {
		return nil, err
	}
	info, err := os.Stat(at)
	if err != nil {
		return nil, err
	}
	seen.Octets = info.Size()
	return seen, synced(folder)
}

// nothingAt refuses to write over a database.
func nothingAt(at, folder string) error {
	for _, beside := range []string{"", "-wal", "-shm"} {
		if _, err := os.Stat(at + beside); err == nil {
			return fmt.Errorf("%s is there already. Stop the service, and move what is in %s elsewhere first: nothing is written over",
				at+beside, folder)
		}
	}
	return nil
}

// copied is a copy of a file in a folder, under a name of its own.
func copied(file, folder string) (string, error) {
	in, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer in.Close()
	to, err := temporary(folder)
	if err != nil {
		return "", err
	}
	if err := writeFile(to, in); err != nil {
		os.Remove(to)
		return "", fmt.Errorf("the database can't be written: %w", err)
	}
	return to, nil
}

// writeFile writes what is read to a file that is there, down to the disk.
func writeFile(path string, from io.Reader) error {
	out, err := os.OpenFile(path, os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, from)
	if err == nil {
		err = out.Sync()
	}
	return errors.Join(err, out.Close())
}
