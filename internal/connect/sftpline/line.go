// Package sftpline sends requests over an SFTP connection that follow one another without waiting for answers, where
// the client library waits for each: a small file is written in two round trips instead of five.
//
// It shares the connection with that client. Its requests have numbers that the client does not reach, and their answers
// are taken out of what the client reads. A server does the requests of a connection that concern one file in the order
// in which they come (draft-ietf-secsh-filexfer-02, section 7).
package sftpline

import (
	"encoding/binary"
	"errors"
	"io"
	"sync"
)

// ErrEnded tells that the connection is gone.
var ErrEnded = errors.New("the SFTP connection has ended")

const (
	ownNumbers = 1 << 31 // from here on numbers are ours
	headLength = 9       // of a message: length, type, number
	mostAnswer = 1 << 20 // bytes of an answer that is taken
)

// Line is a connection. It is what the client reads from and writes to.
type Line struct {
	in  io.Reader
	out io.WriteCloser

	// what the client reads: the rest of a message's head that it has not had, and how much of its body is to come
	head []byte
	body int

	sending sync.Mutex
	within  int    // bytes that are to come of a message that the client sends
	length  []byte // of it, as far as it is known

	mu      sync.Mutex
	next    uint32
	waiting map[uint32]chan<- Answer
	ended   bool
}

// New gives a connection over a stream. The client reads from it and writes to it all the time.
func New(in io.Reader, out io.WriteCloser) *Line {
	return &Line{in: in, out: out, waiting: map[uint32]chan<- Answer{}}
}

// Answer is what the server answers: the type of the message and what is behind its number.
type Answer struct {
	Type byte
	Body []byte
}

// Ask sends requests, one right behind the other, and waits for their answers, which come in the order of the requests.
// It fails with ErrEnded.
func (l *Line) Ask(requests ...Request) ([]Answer, error) {
	answers := make([]Answer, len(requests))
	for i, c := range l.send(requests) {
		answer, came := <-c
		if !came {
			return nil, ErrEnded
		}
		answers[i] = answer
	}
	return answers, nil
}

// Tell sends a request whose answer nobody wants.
func (l *Line) Tell(r Request) { l.send([]Request{r}) }

// send sends requests, and gives for each where its answer comes; or nothing does, and that is closed.
func (l *Line) send(requests []Request) []chan Answer {
	channels := make([]chan Answer, len(requests))
	var out []byte
	l.mu.Lock()
	for i, r := range requests {
		channels[i] = make(chan Answer, 1)
		if l.ended {
			close(channels[i])
			continue
		}
		number := ownNumbers | l.next
		l.next = (l.next + 1) &^ ownNumbers
		l.waiting[number] = channels[i]
		out = r.append(out, number)
	}
	ended := l.ended
	l.mu.Unlock()
	if ended {
		return channels
	}
	l.sending.Lock()
	_, err := l.out.Write(out)
	l.sending.Unlock()
	if err != nil {
		l.end()
	}
	return channels
}

// end tells all that wait that nothing comes.
func (l *Line) end() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.ended = true
	for number, c := range l.waiting {
		close(c)
		delete(l.waiting, number)
	}
}

// Read gives the client what is meant for it.
func (l *Line) Read(p []byte) (int, error) {
	for len(l.head) == 0 && l.body == 0 {
		if err := l.receive(); err != nil {
			l.end()
			return 0, err
		}
	}
	if len(l.head) > 0 {
		n := copy(p, l.head)
		l.head = l.head[n:]
		return n, nil
	}
	n, err := l.in.Read(p[:min(len(p), l.body)])
	if l.body -= n; err != nil {
		l.end()
	}
	return n, err
}

// receive reads the head of the next message, and all of one that is ours.
func (l *Line) receive() error {
	head := make([]byte, headLength)
	if _, err := io.ReadFull(l.in, head[:4]); err != nil {
		return err
	}
	length := int64(binary.BigEndian.Uint32(head))
	if length < headLength-4 { // the client finds out what is wrong
		l.head, l.body = head[:4], int(length)
		return nil
	}
	if _, err := io.ReadFull(l.in, head[4:]); err != nil {
		return err
	}
	number := binary.BigEndian.Uint32(head[5:])
	if number < ownNumbers {
		l.head, l.body = head, int(length)-(headLength-4)
		return nil
	}
	if length > mostAnswer {
		return errors.New("an answer of the SFTP server is too long")
	}
	body := make([]byte, length-(headLength-4))
	if _, err := io.ReadFull(l.in, body); err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	waiting := l.waiting[number]
	if waiting == nil {
		return errors.New("the SFTP server answers what was not asked")
	}
	delete(l.waiting, number)
	waiting <- Answer{head[4], body}
	return nil
}

// Write sends what the client says. Other requests wait until a message of its is complete.
func (l *Line) Write(p []byte) (int, error) {
	done := 0
	for done < len(p) {
		if l.within == 0 && len(l.length) == 0 {
			l.sending.Lock()
		}
		rest := p[done:]
		n := 0
		if l.within == 0 {
			n = min(4-len(l.length), len(rest))
			if l.length = append(l.length, rest[:n]...); len(l.length) == 4 {
				l.within = int(binary.BigEndian.Uint32(l.length))
			}
		}
		body := min(l.within, len(rest)-n)
		_, err := l.out.Write(rest[:n+body])
		l.within -= body
		done += n + body
		if l.within == 0 && len(l.length) == 4 || err != nil {
			l.within, l.length = 0, l.length[:0]
			l.sending.Unlock()
		}
		if err != nil {
			l.end()
			return done, err
		}
	}
	return done, nil
}

// Close ends the connection.
func (l *Line) Close() error {
	err := l.out.Close()
	l.end()
	return err
}
