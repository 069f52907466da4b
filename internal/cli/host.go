package cli

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"bagaglio/api"
	"bagaglio/client"

	"github.com/spf13/cobra"
)

func (a *app) host() *cobra.Command {
	return group(
		"host",
		"Hosts: the computers that pools lie on",
		a.hostList(),
		a.hostStorage(),
		a.hostAdd(),
		a.hostChange(),
		a.hostTrust(),
		a.hostTest(),
		a.hostRemove(),
	)
}

func (a *app) hostList() *cobra.Command {
	c := &cobra.Command{
		Use: "list", Short: "List the hosts", Args: exactly(0),
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, _ []string) error {
			hosts, err := service.Hosts(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(hosts)
			}
			rows := [][]string{{"HOST", "KIND", "ADDRESS", "USER", "LOGS IN WITH", "RUNS", "TRUSTED KEY"}}
			for _, h := range hosts {
				var with []string
				for _, w := range h.LogsInWith {
					with = append(with, string(w))
				}
				key := h.TrustedKey
				if h.Kind == api.HostKindSftp && key == "" {
					key = "none: bagaglio host trust " + h.Name
				}
				rows = append(rows, []string{h.Name, string(h.Kind), h.Address, h.User, strings.Join(with, ", "), deref(h.Runs), key})
			}
			return table(a.out, rows)
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) hostStorage() *cobra.Command {
	c := &cobra.Command{
		Use:               "storage HOST",
		Short:             "List the storage pools and networks that a host has of its own",
		Args:              exactly(1),
		ValidArgsFunction: a.completeHost,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			has, err := service.HostStorage(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(has)
			}
			rows := [][]string{{"STORAGE POOL", "FOLDER", "POOL"}}
			for _, p := range has.Pools {
				ours := deref(p.Pool)
				if ours == "" {
					ours = fmt.Sprintf("none: bagaglio pool add %s %s --host %s", p.Name, p.Folder, args[0])
				}
				rows = append(rows, []string{p.Name, p.Folder, ours})
			}
			if len(has.Pools) == 0 {
				_, err = fmt.Fprintln(a.out, "No storage pools of its own in folders.")
			} else {
				err = table(a.out, rows)
			}
			if len(has.Networks) > 0 {
				_, err = fmt.Fprintf(a.out, "Networks: %s\n", strings.Join(has.Networks, ", "))
			}
			return err
		}),
	}
	a.jsonFlag(c)
	return c
}

// loginFlags are what a host is logged in to with. Secrets are not arguments: those are seen by everybody on the computer.
type loginFlags struct {
	user, key, password, keyIs string
	agent                      bool
	runs, socket, machines     string
}

func (l *loginFlags) add(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&l.user, "user", "", "to log in as")
	f.StringVar(
		&l.key,
		"key",
		"",
		"file with the private key to log in with; it is copied into the service, encrypted (or env:BAGAGLIO_SECRET_ADDRESS_...)",
	)
	f.StringVar(
		&l.password,
		"password",
		"",
		"where the password comes from: ask, file:NAME in the service's folder for secrets, or env:BAGAGLIO_SECRET_ADDRESS_...",
	)
	f.BoolVar(&l.agent, "agent", false, "log in with the SSH agent of the user that runs the service")
	f.StringVar(&l.keyIs, "key-is", "", "fingerprint of the host's own key, SHA256:..., to trust it unasked")
	f.StringVar(&l.runs, "runs", "", "what runs machines there: libvirt or standin; empty for nothing")
	f.StringVar(&l.machines, "machines", "", "where that is reached by an API: its URL")
	f.StringVar(&l.socket, "socket", "", "where that is reached on the host: the whole path of its socket")
}

// secrets reads what the flags name, or returns nil when they name nothing.
func (a *app) secrets(l loginFlags) (*api.Secrets, error) {
	if l.key == "" && l.password == "" && !l.agent {
		return nil, nil
	}
	s := &api.Secrets{Agent: &l.agent}
	if l.key != "" {
		s.Key = &l.key
		if !strings.HasPrefix(l.key, "env:") {
			b, err := os.ReadFile(strings.TrimPrefix(l.key, "file:"))
			if err != nil {
				return nil, usage("reading the private key: %w", err)
			}
			text := string(b)
			s.Key = &text
		}
		if passphrase := a.config.GetString("key-passphrase"); passphrase != "" { // BAGAGLIO_KEY_PASSPHRASE
			s.Passphrase = &passphrase
		}
	}
	switch {
	case l.password == "ask":
		if !isTerminal(a.in) {
			return nil, usage("there is no terminal to ask for the password on: use file: or env:")
		}
		text, err := a.typed("Password")
		if err != nil {
			return nil, err
		}
		s.Password = &text
	case strings.HasPrefix(l.password, "file:"):
		s.Password = &l.password
	case strings.HasPrefix(l.password, "env:"):
		s.Password = &l.password
	case l.password != "":
		return nil, usage(
			"a password is not written on the command line, where everybody on this computer can read it: use ask, file:NAME or env:BAGAGLIO_SECRET_ADDRESS_...",
		)
	}
	return s, nil
}

func (a *app) hostAdd() *cobra.Command {
	var l loginFlags
	var objects bool
	c := &cobra.Command{
		Use:   "add NAME ADDRESS",
		Short: "Add a host with SSH (HOST or HOST:PORT), a web server (https://HOST), or an object store",
		Args:  exactly(2),
		Long: `Adds a host. One with SSH shows its key: compare it with what its keeper says before you trust it. Nothing is sent to a host that is not trusted. An object store
speaks the S3 protocol (--s3): its user is an access key, and its password the secret key; its buckets, and folders in them, become pools.`,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			secrets, err := a.secrets(l)
			if err != nil {
				return err
			}
			n := api.NewHost{Name: args[0], Kind: api.NewHostKindSftp, Address: args[1], Login: secrets, User: &l.user}
			switch {
			case objects:
				n.Kind = api.NewHostKindS3
			case strings.Contains(args[1], "://"):
				n.Kind = api.NewHostKindHttp
			}
			if l.keyIs != "" {
				n.TrustedKey = &l.keyIs
			}
			if l.runs != "" {
				n.Runs, n.Socket, n.Machines = &l.runs, &l.socket, &l.machines
			}
			h, err := service.AddHost(cmd.Context(), n)
			if err != nil {
				return err
			}
			if err := a.did(h, "Host %s is added: %s.", h.Name, h.Address); err != nil {
				return err
			}
			if h.ShownKey == nil {
				return nil
			}
			if err := a.trust(cmd, service, h); !errors.Is(err, errNotTrusted) {
				return err
			}
			return nil // it was added
		}),
	}
	l.add(c)
	c.Flags().BoolVar(&objects, "s3", false, "it is an object store, which speaks the S3 protocol")
	a.jsonFlag(c)
	return c
}

// errNotTrusted is the error where there is nobody to ask.
var errNotTrusted = told(errors.New("the host is not trusted"))

// trust asks whether the key that a host shows is its own.
func (a *app) trust(cmd *cobra.Command, service *client.Service, h api.Host) error {
	a.remark("It shows the key %s.", *h.ShownKey)
	if h.TrustedKey != "" {
		a.remark(
			"That is not the key that was trusted until now, %s.\nThe host may have been installed anew; or what answers is another computer, which would see everything that is sent.",
			h.TrustedKey,
		)
	}
	if a.json || !isTerminal(a.in) || !isTerminal(a.notes) {
		a.remark("It is not trusted yet. Compare the key with what the host's keeper says, then: bagaglio host trust %s %s", h.Name, *h.ShownKey)
		return errNotTrusted
	}
	if err := a.ask("Is that what the host's keeper says? Trust it?"); err != nil {
		return errors.Join(err, fmt.Errorf("the host is not trusted; to do so later: bagaglio host trust %s", h.Name))
	}
	_, err := service.ChangeHost(cmd.Context(), h.Name, api.HostChange{TrustedKey: h.ShownKey})
	if err == nil {
		a.remark("Host %s is trusted.", h.Name)
	}
	return err
}

func (a *app) hostTrust() *cobra.Command {
	c := &cobra.Command{
		Use: "trust NAME [KEY]", Short: "Trust the key of a host with SSH", ValidArgsFunction: a.completeHost,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return usage("name a host, and the fingerprint of its key if you know it: bagaglio host trust NAME [KEY]")
			}
			return nil
		},
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			if len(args) == 2 {
				h, err := service.ChangeHost(cmd.Context(), args[0], api.HostChange{TrustedKey: &args[1]})
				if err != nil {
					return err
				}
				return a.did(h, "Host %s is trusted.", args[0])
			}
			hosts, err := service.Hosts(cmd.Context())
			if err != nil {
				return err
			}
			for _, h := range hosts {
				if h.Name != args[0] {
					continue
				}
				if h, err = service.ChangeHost(cmd.Context(), h.Name, api.HostChange{Address: &h.Address}); err != nil { // which asks for the key again
					return err
				}
				if h.ShownKey == nil {
					return a.did(h, "Host %s shows the key that is trusted already.", h.Name)
				}
				return a.trust(cmd, service, h)
			}
			return fmt.Errorf("there is no host %q: see bagaglio host list", args[0])
		}),
	}
	a.jsonFlag(c)
	return c
}

func (a *app) hostChange() *cobra.Command {
	var l loginFlags
	var address string
	c := &cobra.Command{
		Use: "change NAME", Short: "Change how a host is reached and logged in to", Args: exactly(1), ValidArgsFunction: a.completeHost,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			secrets, err := a.secrets(l)
			if err != nil {
				return err
			}
			change := api.HostChange{Login: secrets}
			for _, x := range []struct {
				flag string
				to   **string
				from *string
			}{{"user", &change.User, &l.user}, {"address-is", &change.Address, &address}, {"key-is", &change.TrustedKey, &l.keyIs}, {"runs", &change.Runs, &l.runs}, {"socket", &change.Socket, &l.socket}, {"machines", &change.Machines, &l.machines}} {
				if cmd.Flags().Changed(x.flag) {
					*x.to = x.from
				}
			}
			if change == (api.HostChange{}) {
				return usage("say what is to change: see bagaglio host change --help")
			}
			h, err := service.ChangeHost(cmd.Context(), args[0], change)
			if err != nil {
				return err
			}
			return a.did(h, "Host %s is changed.", h.Name)
		}),
	}
	l.add(c)
	c.Flags().StringVar(&address, "address-is", "", "HOST or HOST:PORT")
	a.jsonFlag(c)
	return c
}

func (a *app) hostTest() *cobra.Command {
	return a.trial("Try a host out: reach it, log in", a.completeHost, (*client.Service).TestHost)
}

func (a *app) hostRemove() *cobra.Command {
	c := &cobra.Command{
		Use: "remove NAME", Short: "Forget a host that has no pools", Args: exactly(1), ValidArgsFunction: a.completeHost,
		RunE: a.withService(func(cmd *cobra.Command, service *client.Service, args []string) error {
			if err := service.RemoveHost(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.did(map[string]string{"host": args[0]}, "Host %s is forgotten.", args[0])
		}),
	}
	a.jsonFlag(c)
	return c
}

// completeHost offers the names of hosts.
func (a *app) completeHost(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 || a.configure(cmd) != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	service, err := a.dial()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	hosts, err := service.Hosts(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var names []string
	for _, h := range hosts {
		names = append(names, h.Name)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}
