"""What uses the disk, what goes by which rule, and what never goes."""

from __future__ import annotations

import os
import time
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.core.files.base import ContentFile
from django.test import Client
from django.utils import timezone

from greyanchor.accounts.models import AuditEntry
from greyanchor.background import growth
from greyanchor.core.errors import BadInput
from greyanchor.library.models import PackImport, Printer, StorageRules
from greyanchor.library.packs import importing
from greyanchor.measuring import uploads
from greyanchor.measuring.models import Upload
from greyanchor.operations import backup
from greyanchor.printroom import files, intake, prints
from greyanchor.printroom.models import Artwork, Job, Print, PrintFile
from greyanchor.web import storage

LONG_AGO = timezone.now() - timedelta(days=1000)


@pytest.fixture
def kept(tmp_path: Path, settings: Any, user: User, printer: Printer) -> dict[str, Any]:
    """Old things of every kind, some of which evidence rests on."""
    settings.HOME, settings.MEDIA_ROOT = tmp_path, tmp_path / "files"
    settings.INBOX = tmp_path / "inbox"
    facts: dict[str, Any] = {}
    for name in ("printed", "alone"):
        art = Artwork.objects.create(
            name=name, sha256=name.ljust(64, "0"), size=1000, file=f"artwork/{name}", state="done"
        )
        files.place(art.file).write_bytes(b"a" * 1000)
        facts[name] = art
    job = Job.objects.create(artwork=facts["printed"], name="job", made_by=user)
    for name, state in (("over", Print.State.DONE), ("waits", Print.State.HELD)):
        made = PrintFile.objects.create(job=job, state="done", file=f"print-files/{name}.tif")
        files.place(made.file).write_bytes(b"p" * 5000)
        Print.objects.create(print_file=made, printer=printer, key=name, state=state, sent_at=LONG_AGO)
        facts[name] = made
    for folder in ("rasters", "prints/of", "plates"):
        files.place(f"{folder}/x.png").write_bytes(b"r" * 300)
    pack = PackImport.objects.create(name="p.zip", path="9.zip", state="waiting", step="plan")
    importing.path_of(pack).write_bytes(b"z" * 400)
    facts["pack"] = pack
    (settings.INBOX / "refused").mkdir(parents=True)
    (settings.INBOX / "refused" / "x.txt").write_bytes(b"n" * 70)
    for day in ("20200101-000000", "20210101-000000"):
        (tmp_path / f"before-restore-{day}.zip").write_bytes(b"b" * 90)
    Upload.objects.create(name="x", data=b"u" * 10, sent_by=user)
    for model in (Artwork, PrintFile, PackImport):
        model.objects.update(heard_at=LONG_AGO)
    Upload.objects.update(sent_at=LONG_AGO)
    for path in tmp_path.rglob("*"):
        if path.is_file():
            os.utime(path, (1e9, 1e9))
    StorageRules.objects.update_or_create(pk=1, defaults={"artwork_days": 30, "applied_at": None})
    return facts


def test_a_backup_leaves_out_what_can_be_made_again(kept: dict[str, Any]) -> None:
    held = {name for name, _ in backup._files()}
    assert "files/print-files/waits.tif" in held, "what waits to be printed has no other"
    assert "files/print-files/over.tif" not in held and "files/artwork/printed" in held
    assert not any(name.startswith("files/rasters") for name in held)
    # put back without it: it is prepared again, and says so
    files.local("print-files/over.tif").unlink()
    growth.put_back()
    kept["over"].refresh_from_db()
    kept["waits"].refresh_from_db()
    assert kept["over"].file == "" and kept["waits"].file == "print-files/waits.tif"


def test_what_is_over_goes_and_evidence_stays(kept: dict[str, Any], settings: Any) -> None:
    gone = storage.tidy_when_due()
    assert set(gone) == {"uploads", "refused", "packs", "artwork", "pictures", "print-files", "copies"}
    assert gone["print-files"] == (1, 5000) and gone["artwork"] == (1, 1000)
    # what was printed, what waits to be, and what they were made of
    assert files.local("artwork/printed").exists() and not files.local("artwork/alone").exists()
    assert files.local("print-files/waits.tif").exists() and not files.local("print-files/over.tif").exists()
    assert files.local("prints/of/x.png").exists() and files.local("plates/x.png").exists()
    assert Print.objects.count() == 2 and PrintFile.objects.count() == 2 and Artwork.objects.count() == 1
    copies = [p.name for p in settings.HOME.glob("before-restore-*")]
    assert copies == ["before-restore-20210101-000000.zip"], "the newest stays"
    kept["pack"].refresh_from_db()
    assert kept["pack"].state == "cancelled" and "send it again" in kept["pack"].message
    assert storage.tidy_when_due() == {}, "once an hour"


def test_a_print_whose_file_went_says_so_and_is_not_sent(
    kept: dict[str, Any], client: Client, user: User
) -> None:
    storage.tidy_when_due()
    kept["over"].refresh_from_db()
    with pytest.raises(BadInput, match="not prepared"):
        prints.order(kept["over"], user)
    with pytest.raises(BadInput, match="prepare the job again"):
        files.opened(kept["over"].file)
    with pytest.raises(BadInput, match="prepare the job again"):
        files.opened("print-files/over.tif")


def test_nothing_goes_by_a_rule_of_no_days(kept: dict[str, Any]) -> None:
    StorageRules.objects.update(**dict.fromkeys(StorageRules.DAYS, 0))
    assert storage.tidy_when_due() == {}


def test_leads_see_what_uses_what_and_set_the_rules(kept: dict[str, Any], client: Client, user: User) -> None:
    client.force_login(user)
    page = " ".join(client.get("/shop/storage/").content.decode().split())
    assert "evidence: they stay" in page and "1, 1000 bytes" in page.replace("\xa0", " ")
    values = dict.fromkeys((*StorageRules.DAYS, *StorageRules.QUOTAS), 0)
    values |= {"print_files_days": 5000, "version": 1}
    assert "3650" in client.post("/shop/storage/", values).content.decode()
    values["print_files_days"] = 10
    assert client.post("/shop/storage/", values).status_code == 302
    assert StorageRules.current().print_files_days == 10
    assert AuditEntry.objects.filter(what="Days of print files", after="10").exists()
    began = time.time()
    answer = client.post("/shop/storage/tidy/", follow=True)
    assert "1 things went" in answer.content.decode() and time.time() - began < 20


def test_quotas_refuse_with_what_is_there_and_what_is_allowed(
    client: Client, user: User, tmp_path: Path, settings: Any
) -> None:
    settings.MEDIA_ROOT = tmp_path
    StorageRules.objects.update_or_create(pk=1, defaults={"uploads_mb": 1, "artwork_gb": 1})
    uploads.put_aside_upload("a.txt", b"x" * 700_000, None, user)
    with pytest.raises(BadInput, match="1 MB of files here that were not used; 1 MB are kept"):
        uploads.put_aside_upload("b.txt", b"x" * 700_000, None, user)
    assert Upload.objects.count() == 1
    Artwork.objects.create(name="big", sha256="b" * 64, size=2**30, file="artwork/b", state="done")
    with pytest.raises(BadInput, match="1.0 of the 1 GB"):
        intake.add(ContentFile(b"picture", "p.png"), "p.png", user)
