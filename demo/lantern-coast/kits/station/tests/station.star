load("kit:station", "station")

coast = medina.network("coast", range = "10.20.0.0/16")

plain = station("sallow", network = coast, range = "10.20.0.0/24")
expect("sallow/medina.subnet/quay", network = coast, zone = "north-1")
expect("sallow/medina.machine/gauge", subnet = plain.quay, size = "small", image = "stone-1")
expect("sallow/medina.disk/tape", gigabytes = 20)

station("merrow", network = coast, range = "10.20.1.0/24", tape = 40, zone = "north-2", tags = {"light": "merrow"})
expect("merrow/medina.disk/tape", gigabytes = 40, zone = "north-2", tags = {"light": "merrow"})

refused(lambda: station("brindle", network = coast, range = "10.20.2.0/24", tape = 0), "less than 1")
refused(lambda: station("farrow", network = coast, range = "10.20.3.1/24"), "bits set beyond its prefix")
refused(lambda: station("Sallow", network = coast, range = "10.20.4.0/24"), "cannot name an instance")
