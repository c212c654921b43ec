load("kit:lookout", "lookout")

name = lookout("sallow", name = "sallow.example", answers = ["10.0.0.4"], facts = {"number": 0})
equal(name, "sallow.example")
expect("sallow/medina.record/name", kind = "A", values = ["10.0.0.4"], ttl = 300)
expect("sallow/medina.record/facts", kind = "TXT", values = ['{"number":0}'])

refused(lambda: lookout("merrow", name = "merrow example", answers = ["10.0.0.4"]), "does not match")
refused(lambda: lookout("brindle", name = "brindle.example", answers = []), "at least 1")
