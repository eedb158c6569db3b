package backup

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"filippo.io/age"

	"innergate/store"
)

// Seen is what a copy holds, as far as it says what copy it is.
type Seen struct {
	Octets                          int64
	Encrypted                       bool
	Applications, Providers, People int64
	// Newest is the time of the newest line of its journal.
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
	out, err := os.CreateTemp(folder, ".restore-*")
	if err != nil {
		return "", true, nil, err
	}
	done = func() { os.Remove(out.Name()) }
	_, err = io.Copy(out, r)
	if err = errors.Join(err, out.Close()); err != nil {
		done()
		return "", true, nil, fmt.Errorf("%s is not whole: %w", file, err)
	}
	return out.Name(), true, done, nil
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
	c, closeIt, err := connection(ctx, "file:"+plain+"?immutable=1&mode=ro")
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
	for _, q := range []struct {
		query string
		into  any
	}{
		{"SELECT count(*) FROM applications", &s.Applications}, {"SELECT count(*) FROM providers", &s.Providers},
		{"SELECT count(*) FROM people", &s.People}, {"SELECT coalesce(max(id), '') FROM migrations", &s.Form},
		{"SELECT (SELECT at FROM journal_entries ORDER BY number DESC LIMIT 1)", &newest},
	} {
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
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder can't be made: %w", err)
	}
	at := filepath.Join(folder, store.FileName)
	for _, beside := range []string{"", "-wal", "-shm"} {
		if _, err := os.Stat(at + beside); err == nil {
			return nil, fmt.Errorf("%s is there already. Stop the service, and move what is in %s elsewhere first: nothing is written over",
				at+beside, folder)
		}
	}
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
	part := at + ".part"
	defer os.Remove(part)
	if err := copyFile(plain, part); err != nil {
		return nil, err
	}
	if err := os.Rename(part, at); err != nil {
		return nil, err
	}
	info, err := os.Stat(at)
	if err != nil {
		return nil, err
	}
	seen.Octets = info.Size()
	return seen, synced(folder)
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return fmt.Errorf("the data folder can't be written: %w", err)
	}
	_, err = io.Copy(out, in)
	if err == nil {
		err = out.Sync()
	}
	if err = errors.Join(err, out.Close()); err != nil {
		return fmt.Errorf("the database can't be written: %w", err)
	}
	return nil
}
