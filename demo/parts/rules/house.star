def private(r):
    if r.type == "medina.bucket" and r.inputs.public:
        return "a bucket is not public here"

def modest(r):
    if r.type == "medina.machine" and r.inputs.size == "large":
        return "large machines are agreed on first"

rule("private-buckets", each = private, at = ["declared", "proposed", "live"], level = "block", help = "leave public out, or excuse it: care(excuse = {\"private-buckets\": \"REASON, until DATE\"})")
rule("modest", each = modest, level = "warn")
