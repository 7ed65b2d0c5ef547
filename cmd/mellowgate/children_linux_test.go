package main

import (
	"os/exec"
	"syscall"
)

// mortal makes a child end with the tests that started it, however they end: a
// process that is left over would keep its ports.
func mortal(cmd *exec.Cmd) *exec.Cmd {
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Pdeathsig = syscall.SIGKILL
	return cmd
}
