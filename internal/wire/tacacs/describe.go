package tacacs

// Named is a part of a message in readable form. Names are those of RFC 8907.
type Named struct{ Name, Value string }

// Describe returns who asks, and from where; never the data, which may be a
// password.
func (s AuthenStart) Describe() []Named { return asker(s.User, s.Port, s.RemoteAddress) }

// Describe returns the status, and the message where there is one.
func (r AuthenReply) Describe() []Named {
	values := []Named{{Name: "status", Value: r.Status.String()}}
	if r.Message != "" {
		values = append(values, Named{Name: "server_msg", Value: r.Message})
	}
	return values
}

// Describe returns who asks, from where, and the arguments.
func (r AuthorRequest) Describe() []Named {
	return append(asker(r.User, r.Port, r.RemoteAddress), arguments(r.Args)...)
}

// Describe returns the status and the arguments.
func (r AuthorResponse) Describe() []Named {
	return append([]Named{{Name: "status", Value: r.Status.String()}}, arguments(r.Args)...)
}

func asker(user, port, from string) []Named {
	return []Named{{Name: "user", Value: user}, {Name: "port", Value: port}, {Name: "rem_addr", Value: from}}
}

func arguments(args []string) []Named {
	values := make([]Named, len(args))
	for i, a := range args {
		values[i].Name, values[i].Value, _ = Arg(a)
	}
	return values
}
