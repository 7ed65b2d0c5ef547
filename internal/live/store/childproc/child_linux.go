// Package childproc makes the programs that tests start end with the tests.
package childproc

import (
	"os/exec"
	"syscall"
)

// Child makes a child end with the process that starts it, however that ends: one
// that is left over would keep its ports and its files. It sets Pdeathsig (PR_SET_PDEATHSIG, prctl(2)).
func Child(cmd *exec.Cmd) *exec.Cmd {
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Pdeathsig = syscall.SIGKILL
	return cmd
}
