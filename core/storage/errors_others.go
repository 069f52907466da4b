//go:build !darwin

package storage

import "syscall"

const remoteIO = syscall.EREMOTEIO
