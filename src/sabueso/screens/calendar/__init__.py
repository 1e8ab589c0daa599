"""When rows were recorded: hours and weekdays that are not those of whoever recorded them."""
