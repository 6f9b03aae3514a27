// Package wiselantern holds no code of its own: the rooms are below it, and the
// test beside this file keeps the arrows between them.
package wiselantern
