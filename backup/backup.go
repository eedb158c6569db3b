// Package backup copies the gate's records while the service runs, and brings them back. A copy is a database as it was at one
// moment; what is sealed in it stays sealed, so that it is of use only together with the master key, which is kept apart from it.
package backup

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/mattn/go-sqlite3"

	"innergate/store"
)

// Progress is told how many pages of how many are copied.
type Progress func(done, all int)

const (
	pagesAtOnce = 4096 // 16 MiB
	betweenSome = 2 * time.Millisecond
)

// Make writes a copy of the gate's records in a data folder to a file, which must not be there yet; encrypted where there are
// recipients. It works whether the service runs or not, and no writer waits for it. The copy is read whole before it stands under
// its name; what is to be encrypted lies in clear in the data folder alone, where the same lies anyway.
func Make(ctx context.Context, folder, to string, recipients []age.Recipient, progress Progress) (*Seen, error) {
	return makeOf(ctx, folder, store.FileName, to, recipients, progress)
}

// Source writes all records as they are at one moment to a file, in clear.
type Source func(ctx context.Context, to string) error

// MakeFrom is Make for records that are kept elsewhere than in a file of the folder.
func MakeFrom(ctx context.Context, source Source, folder, to string, recipients []age.Recipient) (*Seen, error) {
	if err := absent(to); err != nil {
		return nil, err
	}
	return finish(ctx, source, folder, to, recipients)
}

// MakeOfTraces is Make for the traces of sign-ins, which are a file of their own.
func MakeOfTraces(ctx context.Context, folder, to string, recipients []age.Recipient, progress Progress) (*Seen, error) {
	return makeOf(ctx, folder, store.TracesFileName, to, recipients, progress)
}

func makeOf(ctx context.Context, folder, name, to string, recipients []age.Recipient, progress Progress) (*Seen, error) {
	if err := absent(to); err != nil {
		return nil, err
	}
	from := filepath.Join(folder, name)
	if _, err := os.Stat(from); err != nil {
		return nil, fmt.Errorf("there is no database %s", from)
	}
	release, err := store.Hold(folder, false)
	if err != nil {
		return nil, err
	}
	defer release()
	source := func(ctx context.Context, to string) error { return copyDatabase(ctx, from, to, progress) }
	return finish(ctx, source, folder, to, recipients)
}

func absent(to string) error {
	if _, err := os.Stat(to); err == nil {
		return fmt.Errorf("%s is there already. Name another file, or take that one away first", to)
	}
	return nil
}

// finish writes a copy beside its place, reads it whole, encrypts it, and gives it its name.
func finish(ctx context.Context, source Source, folder, to string, recipients []age.Recipient) (*Seen, error) {
	beside := filepath.Dir(to)
	if len(recipients) > 0 {
		beside = folder
	}
	plain, err := temporary(beside)
	if err != nil {
		return nil, err
	}
	defer os.Remove(plain)
	if err := source(ctx, plain); err != nil {
		return nil, err
	}
	seen, err := look(ctx, plain)
	if err != nil {
		return nil, fmt.Errorf("the copy is not good, and was not kept: %w", err)
	}
	whole := plain
	if len(recipients) > 0 {
		if whole, err = temporary(filepath.Dir(to)); err != nil {
			return nil, err
		}
		defer os.Remove(whole)
		if err := encrypt(plain, whole, recipients); err != nil {
			return nil, err
		}
		seen.Encrypted = true
	}
	if err := synced(whole); err != nil {
		return nil, err
	}
	info, err := os.Stat(whole)
	if err != nil {
		return nil, err
	}
	seen.Octets = info.Size()
	if err := os.Rename(whole, to); err != nil {
		return nil, fmt.Errorf("the copy can't be given its name: %w", err)
	}
	return seen, synced(filepath.Dir(to))
}

const (
	// Temporary is how the names begin of files that are taken away when they are a day old.
	Temporary = ".backup-"
	// forgottenAfter is when what a copy that was cut off has left is taken away.
	forgottenAfter = 24 * time.Hour
)

// temporary makes a file that only we read, and takes away what was left behind by copies that were cut off.
func temporary(folder string) (string, error) {
	left, _ := filepath.Glob(filepath.Join(folder, Temporary+"*"))
	for _, path := range left {
		if info, err := os.Stat(path); err == nil && time.Since(info.ModTime()) > forgottenAfter {
			os.Remove(path)
		}
	}
	f, err := os.CreateTemp(folder, Temporary+"*")
	if err != nil {
		return "", fmt.Errorf("no file can be made in %s: %w", folder, err)
	}
	return f.Name(), f.Close()
}

// copyDatabase copies by the engine's own means: all pages as they were when it began, some at a time.
func copyDatabase(ctx context.Context, from, to string, progress Progress) error {
	source, closeSource, err := connection(ctx, from+"?_busy_timeout=5000&_query_only=true")
	if err != nil {
		return err
	}
	defer closeSource()
	// While it reads, what it sees stays as it is, whatever others write.
	if err := source.begin(ctx); err != nil {
		return err
	}
	target, closeTarget, err := connection(ctx, to)
	if err != nil {
		return err
	}
	defer closeTarget()
	return source.raw(func(from *sqlite3.SQLiteConn) error {
		return target.raw(func(to *sqlite3.SQLiteConn) error {
			b, err := to.Backup("main", from, "main")
			if err != nil {
				return fmt.Errorf("the copy can't begin: %w", store.Clear(err))
			}
			for {
				done, err := b.Step(pagesAtOnce)
				if err != nil {
					return errors.Join(fmt.Errorf("the copy failed: %w", store.Clear(err)), b.Close())
				}
				if progress != nil {
					progress(b.PageCount()-b.Remaining(), b.PageCount())
				}
				if done {
					return b.Close()
				}
				select {
				case <-ctx.Done():
					return errors.Join(ctx.Err(), b.Close())
				case <-time.After(betweenSome):
				}
			}
		})
	})
}

// one is one connection to a database.
type one struct{ *sql.Conn }

func connection(ctx context.Context, dsn string) (one, func(), error) {
	db, err := sql.Open("sqlite3", dsn)
	if err != nil {
		return one{}, nil, err
	}
	c, err := db.Conn(ctx)
	if err != nil {
		db.Close()
		return one{}, nil, fmt.Errorf("the database can't be opened: %w", store.Clear(err))
	}
	return one{c}, func() { c.Close(); db.Close() }, nil
}

func (o one) begin(ctx context.Context) error {
	if _, err := o.ExecContext(ctx, "BEGIN"); err != nil {
		return store.Clear(err)
	}
	var n int
	return store.Clear(o.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_master").Scan(&n))
}

func (o one) raw(f func(*sqlite3.SQLiteConn) error) error {
	return o.Raw(func(c any) error {
		lite, ok := c.(*sqlite3.SQLiteConn)
		if !ok {
			return errors.New("the database's driver is another one than was expected")
		}
		return f(lite)
	})
}

func encrypt(from, to string, recipients []age.Recipient) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	w, err := age.Encrypt(out, recipients...)
	if err != nil {
		return fmt.Errorf("the copy can't be encrypted: %w", err)
	}
	if _, err := io.Copy(w, in); err != nil {
		return fmt.Errorf("the copy can't be encrypted: %w", err)
	}
	return w.Close()
}

func synced(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// Recipients reads whom a copy is encrypted to: public keys of age, such as age1….
func Recipients(list []string) ([]age.Recipient, error) {
	var out []age.Recipient
	for _, text := range list {
		r, err := age.ParseX25519Recipient(strings.TrimSpace(text))
		if err != nil {
			return nil, fmt.Errorf("%q is no recipient of age; one begins with age1, and is made by age-keygen", text)
		}
		out = append(out, r)
	}
	return out, nil
}

// Identities reads the file with the keys that open encrypted copies.
func Identities(file string) ([]age.Identity, error) {
	if file == "" {
		return nil, nil
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, fmt.Errorf("the key can't be read: %w", err)
	}
	defer f.Close()
	list, err := age.ParseIdentities(f)
	if err != nil {
		return nil, fmt.Errorf("%s holds no key of age: %w", file, err)
	}
	return list, nil
}
