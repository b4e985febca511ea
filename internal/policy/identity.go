package policy

// Type, Key and Title make each record a [Record].

func (s *Settings) Type() Type    { return SettingsType }
func (s *Settings) Key() string   { return "settings" }
func (s *Settings) Title() string { return "settings" }

func (r *Right) Type() Type    { return Rights }
func (r *Right) Key() string   { return string(r.ID) }
func (r *Right) Title() string { return title(r.Name, string(r.ID)) }

func (r *Role) Type() Type    { return Roles }
func (r *Role) Key() string   { return string(r.ID) }
func (r *Role) Title() string { return title(r.Name, string(r.ID)) }

func (k *Kind) Type() Type    { return Kinds }
func (k *Kind) Key() string   { return string(k.ID) }
func (k *Kind) Title() string { return title(k.Name, string(k.ID)) }

func (s *Site) Type() Type    { return Sites }
func (s *Site) Key() string   { return string(s.ID) }
func (s *Site) Title() string { return title(s.Name, string(s.ID)) }

func (d *Device) Type() Type    { return Devices }
func (d *Device) Key() string   { return string(d.ID) }
func (d *Device) Title() string { return title(d.Name, string(d.ID)) }

func (g *DeviceGroup) Type() Type    { return DeviceGroups }
func (g *DeviceGroup) Key() string   { return string(g.ID) }
func (g *DeviceGroup) Title() string { return title(g.Name, string(g.ID)) }

func (u *User) Type() Type    { return Users }
func (u *User) Key() string   { return string(u.ID) }
func (u *User) Title() string { return title(u.Name, string(u.ID)) }

func (g *UserGroup) Type() Type    { return UserGroups }
func (g *UserGroup) Key() string   { return string(g.ID) }
func (g *UserGroup) Title() string { return title(g.Name, string(g.ID)) }

func (k *Calendar) Type() Type    { return Calendars }
func (k *Calendar) Key() string   { return string(k.ID) }
func (k *Calendar) Title() string { return title(k.Name, string(k.ID)) }

func (s *Schedule) Type() Type    { return Schedules }
func (s *Schedule) Key() string   { return string(s.ID) }
func (s *Schedule) Title() string { return title(s.Name, string(s.ID)) }

func (g *Grant) Type() Type    { return Grants }
func (g *Grant) Key() string   { return string(g.ID) }
func (g *Grant) Title() string { return title(g.Name, string(g.ID)) }

func (e *Expectation) Type() Type    { return Expectations }
func (e *Expectation) Key() string   { return string(e.ID) }
func (e *Expectation) Title() string { return title(e.Name, string(e.ID)) }

func (m *Mandate) Type() Type    { return Mandates }
func (m *Mandate) Key() string   { return string(m.ID) }
func (m *Mandate) Title() string { return title(m.Name, string(m.ID)) }

func title(name, id string) string {
	if name == "" {
		return id
	}
	return name
}
