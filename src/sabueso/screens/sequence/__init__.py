"""Numbers of a series: what is missing, what is there twice, what stands out of order or in another form."""
