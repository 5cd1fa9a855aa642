"""What the technician wrote: rules, conditions, placeholders, units."""
