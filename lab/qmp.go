//go:build linux

package lab

import (
	"bufio"
	"encoding/json"
	"errors"
	"net"
	"sync"
)

// qmp speaks to QEMU itself, by its machine protocol.
type qmp struct {
	conn    net.Conn
	answers chan answer
	mu      sync.Mutex
	events  map[string]chan struct{}
}

type answer struct {
	Return json.RawMessage `json:"return"`
	Error  *struct{ Desc string }
	Event  string
	Data   struct{ Device string }
}

func newQMP(c net.Conn) *qmp {
	q := &qmp{conn: c, answers: make(chan answer), events: map[string]chan struct{}{}}
	go func() { // ends when the connection is closed
		defer close(q.answers)
		lines := bufio.NewReader(c)
		for {
			line, err := lines.ReadBytes('\n')
			if err != nil {
				return
			}
			var a answer
			if json.Unmarshal(line, &a) != nil {
				continue
			}
			switch {
			case a.Event != "":
				q.happened(a.Event, a.Data.Device)
			case a.Return != nil || a.Error != nil:
				q.answers <- a
			}
		}
	}()
	return q
}

func (q *qmp) happened(event, device string) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if c := q.events[event+" "+device]; c != nil {
		close(c)
		delete(q.events, event+" "+device)
	}
}

// expect is to be called before the command that causes an event; the channel is closed when it happens.
func (q *qmp) expect(event, device string) <-chan struct{} {
	q.mu.Lock()
	defer q.mu.Unlock()
	c := make(chan struct{})
	q.events[event+" "+device] = c
	return c
}

// do does a command. One is done at a time.
func (q *qmp) do(command string, arguments object) (json.RawMessage, error) {
	request := object{"execute": command}
	if arguments != nil {
		request["arguments"] = arguments
	}
	if _, err := q.conn.Write([]byte(text(request) + "\n")); err != nil {
		return nil, err
	}
	a, ok := <-q.answers
	switch {
	case !ok:
		return nil, errors.New("QEMU has ended")
	case a.Error != nil:
		return nil, errors.New(a.Error.Desc)
	}
	return a.Return, nil
}
