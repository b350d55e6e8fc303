package e2e

import (
	"os/exec"
	"syscall"
	"testing"
	"time"
)

// A command that waits for what does not come goes on after a first signal, and is ended by the second.
func TestSecondSignal(t *testing.T) {
	t.Parallel()
	cmd := exec.Command(bin, "order", "export", "--numbers-from", "-", "--to", "-", "--address", "http://127.0.0.1:1")
	in, err := cmd.StdinPipe() // nobody writes to it
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	signal := func(within time.Duration) bool {
		if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
			t.Fatal(err)
		}
		select {
		case <-ended:
			return true
		case <-time.After(within):
			return false
		}
	}
	time.Sleep(time.Second) // it has begun to read
	if signal(time.Second) {
		t.Fatalf("the first signal ends it: %v", cmd.ProcessState)
	}
	if !signal(20 * time.Second) {
		_ = cmd.Process.Kill()
		t.Fatal("the second signal does not end it")
	}
	if state, is := cmd.ProcessState.Sys().(syscall.WaitStatus); !is || state.Signal() != syscall.SIGTERM {
		t.Errorf("it ends otherwise: %v", cmd.ProcessState)
	}
}
