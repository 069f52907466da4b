package sftp

import "bagaglio/core/storage"

// Own sets the owner and the mode of a file.
func (f *Folder) Own(name, owner, mode string) error {
	return f.at(name, func(c *client, at spot) error {
		if owner != "" {
			uid, gid, err := storage.ParseOwner(owner)
			if err != nil {
				return err
			}
			if err := c.sftp.Chown(at.full, uid, gid); err != nil {
				return err
			}
		}
		if mode == "" {
			return nil
		}
		bits, err := storage.ParseMode(mode)
		if err != nil {
			return err
		}
		return c.sftp.Chmod(at.full, bits)
	})
}

// Gives is not known of another computer.
func (f *Folder) Gives(string) bool { return true }
