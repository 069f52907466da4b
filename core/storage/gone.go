package storage

// Gone is a folder that is not to be reached: whatever is asked of it fails with that error.
type Gone struct{ Err error }

// Open fails. So does all else.
func (g Gone) Open(string) (File, error) { return nil, g.Err }

// Create likewise.
func (g Gone) Create(string) (File, error) { return nil, g.Err }

// Reopen likewise.
func (g Gone) Reopen(string) (File, error) { return nil, g.Err }

// Rename likewise.
func (g Gone) Rename(string, string) error { return g.Err }

// Exchange likewise.
func (g Gone) Exchange(string, string) error { return g.Err }

// Remove likewise.
func (g Gone) Remove(string) error { return g.Err }

// Stat likewise.
func (g Gone) Stat(string) (Info, error) { return Info{}, g.Err }

// List likewise.
func (g Gone) List(string) ([]Info, error) { return nil, g.Err }

// Sync likewise.
func (g Gone) Sync(string) error { return g.Err }

// Space likewise.
func (g Gone) Space() (Space, error) { return Space{}, g.Err }

// Close has nothing to close.
func (g Gone) Close() error { return nil }
