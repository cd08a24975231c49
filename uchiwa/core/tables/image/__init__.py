"""Binary images: how numbers stand in them, layouts, checksums, reading and writing calibrations."""
