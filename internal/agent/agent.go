// Package agent runs the site engine at the far end, next to the files, and speaks to it over one stream of bytes.
//
// The program copies itself there once (see install.go) and runs as a hidden command. Only the engine's methods cross
// the connection (see message.go), and the content of files, many in one frame (see content.go). What a site promises
// is promised by the engine; nothing is added or taken away here. docs/agent-protocol.md describes the stream so that a
// stranger could write either side of it.
//
// Neither side trusts the other with its memory: every length is checked against a bound before anything is allocated,
// and content is sent only as far as the receiver gave credit.
package agent

import (
	"time"

	"tartine/internal/calls"
)

// Protocol is the version of the protocol. Both sides must have the same.
const Protocol = 1

// Bounds of what is accepted, in bytes.
const (
	maxFrame     = 1<<20 + 1<<10 // one frame, its kind included
	maxBody      = 256 << 20     // the body of one message, parts and all, unpacked
	maxList      = calls.MaxList // elements of one list: entries, folders, changes
	maxTextual   = 64 << 10      // what a login may print before the agent begins
	window       = 16 << 20      // content that may be under way
	narrow       = 4 << 20       // and is, as long as it is small files over one channel
	packedWindow = 512 << 10     // what a packer looks back: frames are no longer, but for a few
)

// Keep-alives: how often one is sent, and how long none may come before the connection counts as dead.
const (
	aliveEvery = 10 * time.Second
	aliveLimit = 60 * time.Second
)

// ErrProtocol tells that the other side does not keep to the protocol.
var ErrProtocol = calls.ErrProtocol
