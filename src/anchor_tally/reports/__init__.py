"""Documents that leave the program about one result: a certificate of an adopted offset."""
