package call

import "golang.org/x/sys/unix"

// hide ends the showing of what is typed at a terminal. It comes before the prompt:
// what is typed, or pasted, as soon as the prompt is there must not be seen.
func hide(terminal int) {
	if state, err := unix.IoctlGetTermios(terminal, unix.TCGETS); err == nil {
		state.Lflag &^= unix.ECHO
		_ = unix.IoctlSetTermios(terminal, unix.TCSETS, state)
	}
}
