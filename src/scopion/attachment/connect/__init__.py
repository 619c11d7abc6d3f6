"""Connections to other machines and programs: SSH, control sockets, SNMP, HTTP; each bounded in time and size."""
