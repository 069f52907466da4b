package porter

import (
	"bagaglio/core/storage"
	"bagaglio/internal/errand"
)

// asking is a folder of a job, of which the service is asked too whether a file is in use: it knows the machines of hosts.
type asking struct {
	storage.Folder
	usage usage
}

// Unwrap is for everything else that the folder can do.
func (a asking) Unwrap() storage.Folder { return a.Folder }

// Adds is what the service knows.
func (a asking) Adds() any { return a.usage }

// usage is comparable: the same folder of the same subject is the same one.
type usage struct {
	folder  storage.Folder
	work    *work
	subject string
	there   bool // it is that of the destination
	// suspended tells that a machine may use a file which is suspended: the service alone tells those from others.
	suspended bool
}

// InUse asks this computer first.
func (u usage) InUse(name string) (why string, err error) {
	if below, ok := storage.As[storage.Usage](u.folder); ok && !u.suspended {
		if why, err := below.InUse(name); err != nil || why != "" {
			return why, err
		}
	}
	asked := errand.Asked{Subject: u.subject, There: u.there, Files: []string{name}}
	err = ask(u.work.ctx, u.work, errand.InUse, asked, &why)
	return why, err
}
