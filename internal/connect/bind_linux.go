package connect

import "syscall"

// bindTo has a socket use one network interface.
func bindTo(socket syscall.RawConn, name string) error {
	var failed error
	err := socket.Control(func(fd uintptr) { failed = syscall.BindToDevice(int(fd), name) })
	if err != nil {
		return err
	}
	return failed
}
