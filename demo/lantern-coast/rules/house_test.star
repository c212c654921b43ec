breaks("private-buckets", resource("medina.bucket", public = True), "not public")
passes("private-buckets", resource("medina.bucket"))
passes("private-buckets", resource("medina.machine", size = "tiny"))
undecided("private-buckets", resource("medina.bucket", public = unknown()))

breaks("owned", resource("medina.disk", gigabytes = 5), "nobody owns it")
passes("owned", resource("medina.disk", gigabytes = 5, tags = {"owner": "keepers"}))

passes("lasting", resource("medina.bucket", guarded_ = True))

breaks("plain-notes", resource("medina.machine", notes = "hello"), "lead to readings")
undecided("plain-notes", resource("medina.machine", notes = unknown()))

passes("calm-budget", struct(cost = struct(change = 12.5)))
breaks("calm-budget", struct(cost = struct(change = 151)), "more than 150")
