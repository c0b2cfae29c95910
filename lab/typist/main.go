//go:build linux

// Typist runs a command on a terminal and answers its questions: "typist ANSWER... -- COMMAND ARG...". A question is a
// line that ends with a colon and a space, and nothing after it for a while. It ends with the command's status.
package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"time"

	"github.com/creack/pty"
)

// pause is how long nothing must follow a question.
const pause = 400 * time.Millisecond

func main() {
	at := slices.Index(os.Args, "--")
	if at < 0 || at == len(os.Args)-1 {
		fmt.Fprintln(os.Stderr, "typist ANSWER... -- COMMAND ARG...")
		os.Exit(2)
	}
	cmd := exec.Command(os.Args[at+1], os.Args[at+2:]...)
	terminal, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 40, Cols: 100})
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	answer(terminal, os.Args[1:at])
	_ = cmd.Wait() // the status tells
	os.Exit(cmd.ProcessState.ExitCode())
}

// answer shows what the command says, and answers its questions.
func answer(terminal *os.File, answers []string) {
	said := make(chan []byte)
	go func() { // ends with the terminal
		defer close(said)
		for {
			buf := make([]byte, 4096)
			n, err := terminal.Read(buf)
			if n > 0 {
				said <- buf[:n]
			}
			if err != nil {
				return
			}
		}
	}()
	var tail []byte
	for {
		select {
		case text, more := <-said:
			if !more {
				return
			}
			_, _ = os.Stdout.Write(text)
			tail = append(tail, text...)
			tail = tail[max(0, len(tail)-64):]
		case <-time.After(pause):
			if bytes.Contains(tail, []byte(": ")) && bytes.HasSuffix(bytes.TrimRight(tail, "\x1b[m0123456789;"),
				[]byte(": ")) && len(answers) > 0 {
				fmt.Fprintln(terminal, answers[0])
				answers, tail = answers[1:], nil
			}
		}
	}
}
