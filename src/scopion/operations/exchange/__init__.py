"""Files that come in and go out: device sheets, records of other machines, whole sites."""
