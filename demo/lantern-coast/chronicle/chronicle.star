# Where the readings are kept for good.
medina.bucket(
    "readings",
    versions = True,
    tags = {"owner": "keepers"},
    care = care(guard = env == "live"),
)

notice = medina.bucket("notices", public = True)
publish("notices", notice.url, help = "where the public notices are read")
