package history

import (
	"context"
	"errors"
	"io"
	"testing"
	"time"
)

// TestOnePassphraseAtATime: an export under a passphrase waits for its turn, and who leaves takes none.
func TestOnePassphraseAtATime(t *testing.T) {
	x := Export{As: Zip, Passphrase: "a dark and quiet harbour"}
	to, err := x.Sound()
	if err != nil {
		t.Fatal(err)
	}
	scrypting <- struct{}{} // somebody is at it
	left, leave := context.WithCancelCause(context.Background())
	gone := errors.New("gone")
	leave(gone)
	if _, err := sealTo(left, x, io.Discard, to); !errors.Is(err, gone) {
		t.Errorf("who left: %v", err)
	}
	done := make(chan error)
	go func() {
		_, err := sealTo(context.Background(), x, io.Discard, to)
		done <- err
	}()
	select {
	case err := <-done:
		t.Fatalf("it did not wait: %v", err)
	case <-time.After(50 * time.Millisecond):
	}
	<-scrypting
	if err := <-done; err != nil {
		t.Error(err)
	}
}
