"""Air by speed density, by meter and by fuel."""
