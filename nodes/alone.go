//go:build !nodes

package nodes

import (
	"context"
	"database/sql"
	"errors"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
)

// Node is none in this build.
type Node struct{}

// ErrAlone says that this program was built without what nodes need.
var ErrAlone = errors.New("this build of Inner Gate keeps its records on one machine alone; `make " +
	"build-nodes` makes one that can be a node")

// Start says that it can't.
func Start(context.Context, Options) (*Node, error) { return nil, ErrAlone }

// Pool is never called: there is no Node.
func (n *Node) Pool(int) *sql.DB { return nil }

// Dialect is never called.
func (n *Node) Dialect(d sqlite.Dialector) gorm.Dialector { return &d }

// Options is never called.
func (n *Node) Options() Options { return Options{} }

// Unknown is never called.
func (n *Node) Unknown(error) bool { return false }

// Lost is never called.
func (n *Node) Lost(error) bool { return false }

// Members is never called.
func (n *Node) Members(context.Context) ([]Member, error) { return nil, ErrAlone }

// Leads is never called.
func (n *Node) Leads(context.Context) bool { return true }

// Relieve is never called.
func (n *Node) Relieve(context.Context) error { return ErrAlone }

// Remove is never called.
func (n *Node) Remove(context.Context, uint64) error { return ErrAlone }

// Copy is never called.
func (n *Node) Copy(context.Context, string) error { return ErrAlone }

// Close is never called.
func (n *Node) Close() error { return nil }
