// Package sysready tells the system's service manager that a program is ready, that it still works, and that it ends
// (sd_notify(3)): datagrams to the socket that NOTIFY_SOCKET names. Without that variable it tells nobody.
package sysready

import (
	"net"
	"os"
	"strconv"
	"strings"
	"time"
)

// The states that are told.
const (
	Ready    = "READY=1"
	Stopping = "STOPPING=1"
	Beat     = "WATCHDOG=1"
)

// Tell sends a state; false where nobody wants it.
func Tell(state string) (bool, error) {
	at := os.Getenv("NOTIFY_SOCKET")
	if at == "" {
		return false, nil
	}
	if strings.HasPrefix(at, "@") { // the abstract name space (unix(7))
		at = "\x00" + at[1:]
	}
	c, err := net.DialUnix("unixgram", nil, &net.UnixAddr{Name: at, Net: "unixgram"})
	if err != nil {
		return false, err
	}
	_, err = c.Write([]byte(state))
	if e := c.Close(); err == nil {
		err = e
	}
	return err == nil, err
}

// BeatEvery is how often the manager wants to hear that the program works: half of WATCHDOG_USEC (sd_watchdog_enabled(3));
// 0 for never.
func BeatEvery() time.Duration {
	n, err := strconv.ParseInt(os.Getenv("WATCHDOG_USEC"), 10, 64)
	if id := os.Getenv("WATCHDOG_PID"); err != nil || n <= 0 || id != "" && id != strconv.Itoa(os.Getpid()) {
		return 0
	}
	return time.Duration(n) * time.Microsecond / 2
}
