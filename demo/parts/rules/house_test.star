breaks("private-buckets", resource("medina.bucket", public = True), "not public")
passes("private-buckets", resource("medina.bucket"))
breaks("modest", resource("medina.machine", size = "large"), "agreed on first")
