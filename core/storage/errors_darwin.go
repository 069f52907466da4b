package storage

import "syscall"

const remoteIO = syscall.EIO // which has no other name here
