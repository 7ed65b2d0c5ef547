package evidence

import "slices"

// Places says where everything is.
type Places struct {
	Site     string        `json:"site"`      // the site's name
	SitePath string        `json:"site_path"` // the file or folder it was read from
	Ledger   LedgerPlace   `json:"ledger"`
	Servers  []ServerPlace `json:"servers"`
	Devices  []DevicePlace `json:"devices"`
	Control  *ControlPlace `json:"control,omitempty"` // of a running lab
	From     string        `json:"from,omitempty"`    // of a lab: the address that people come from, as devices say it
	Logs     []string      `json:"logs,omitempty"`    // where devices' logs are received: "udp ADDRESS:PORT"
}

// ControlPlace is where a running lab takes faults from other programs of the
// same user.
type ControlPlace struct {
	Address string `json:"address"`
	Token   string `json:"token"`
}

// LedgerPlace is where the records are. Both are empty for the folder records in the
// state folder.
type LedgerPlace struct {
	Folder   string `json:"folder,omitempty"`
	Database string `json:"database,omitempty"` // a URL, without a password
}

// ServerPlace is where a server answers. Ports of the other protocol are 0.
type ServerPlace struct {
	Name           string `json:"name"`
	Protocol       string `json:"protocol"`
	TLS            bool   `json:"tls"`
	Address        string `json:"address"`
	Port           uint16 `json:"port,omitempty"`
	Authentication uint16 `json:"authentication_port,omitempty"`
	Accounting     uint16 `json:"accounting_port,omitempty"`
	Running        bool   `json:"running"`
}

// DevicePlace is where a stand-in device is entered.
type DevicePlace struct {
	Name    string     `json:"name"`
	Source  string     `json:"source"`   // where its requests come from
	HostKey string     `json:"host_key"` // its SSH key, as in an authorized_keys file
	Ways    []WayPlace `json:"ways"`
	Speaks  bool       `json:"speaks,omitempty"` // at its command line it has the words of its make
}

// WayPlace is one way in.
type WayPlace struct {
	Access  string `json:"access"`
	Address string `json:"address"` // address:port
}

// Device returns the place of a device by name.
func (p Places) Device(name string) (DevicePlace, bool) {
	i := slices.IndexFunc(p.Devices, func(d DevicePlace) bool { return d.Name == name })
	if i < 0 {
		return DevicePlace{}, false
	}
	return p.Devices[i], true
}
