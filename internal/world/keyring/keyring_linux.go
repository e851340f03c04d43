//go:build !portable

package keyring

import (
	"os"
	"path/filepath"

	"github.com/godbus/dbus/v5"
	ss "github.com/zalando/go-keyring/secret_service"

	"uncinate/internal/core/fault"
)

// connect reaches the session bus, if one runs. Without this look the library would
// start a bus of its own, which nobody asked for.
func connect() (*ss.SecretService, error) {
	if os.Getenv("DBUS_SESSION_BUS_ADDRESS") == "" {
		run := os.Getenv("XDG_RUNTIME_DIR")
		if s, err := os.Stat(filepath.Join(run, "bus")); run == "" || err != nil || s.Mode()&os.ModeSocket == 0 {
			return nil, missing("no session bus (D-Bus) runs")
		}
	}
	service, err := ss.NewSecretService()
	if err != nil {
		return nil, missing("the session bus (D-Bus) does not answer").Because(err)
	}
	return service, nil
}

// locked asks the collection that entries go to (Secret Service API, property
// org.freedesktop.Secret.Collection.Locked).
func locked() (bool, error) {
	service, err := connect()
	if err != nil {
		return false, err
	}
	value, err := service.GetLoginCollection().GetProperty("org.freedesktop.Secret.Collection.Locked")
	if err != nil {
		if e, ok := err.(dbus.Error); ok && (e.Name == "org.freedesktop.DBus.Error.ServiceUnknown" || e.Name == "org.freedesktop.DBus.Error.NameHasNoOwner") {
			return false, missing("no program on the session bus offers the Secret Service").Because(err)
		}
		return false, missing("it has no collection to keep entries in yet").Because(err)
	}
	is, ok := value.Value().(bool)
	if !ok {
		return false, fault.New(fault.Failed, "the system's keyring does not say whether it is locked")
	}
	return is, nil
}

func unlock() error {
	service, err := connect()
	if err != nil {
		return err
	}
	if err := service.Unlock(service.GetLoginCollection().Path()); err != nil {
		return fault.New(fault.Decision, "the system's keyring stays locked: its question was not answered").Because(err).
			Detail("It asks on the desktop; where there is none, over SSH for example, nobody sees the question.")
	}
	return nil
}

func missing(why string) *fault.Fault {
	return fault.New(fault.Failed, "there is no system keyring here: %s", why)
}
