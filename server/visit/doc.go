// Package visit tells of every request from where it comes, and keeps and takes the gate's cookies.
package visit
