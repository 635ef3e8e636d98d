"""Taking up intakes that are queued, and those whose worker died."""

from __future__ import annotations

import datetime as dt
import logging

from django.conf import settings
from django.db import OperationalError, transaction

from config.errors import Refused
from config.heartbeat import beating
from config.push import notify
from intake.dated_work import DatedWork
from intake.services import enqueue
from intake.work import Cancelled, Lost, Status, Work, end, lease
from market.ask import forgotten
from market.models import Intake
from strell_core.formats.intake.mapping import Mapping
from strell_core.formats.intake.tables import IntakeError

log = logging.getLogger("strell.intake")
MAX_ATTEMPTS = 3


def recover() -> int:
    """Intakes whose worker died, or that nobody is asked for, are queued again; after three tries they fail."""
    now, count = dt.datetime.now(dt.UTC), 0
    for key in Intake.objects.filter(status=Status.RUNNING, lease_until__lt=now).values_list("pk", flat=True):
        with transaction.atomic():
            held = Intake.objects.select_for_update(skip_locked=True, no_key=True).filter(
                pk=key, status=Status.RUNNING, lease_until__lt=now
            )
            intake = held.first()
            if intake is None:
                continue
            count += 1
            if intake.attempts < MAX_ATTEMPTS:
                intake.status = Status.QUEUED
                intake.save(update_fields=["status"])
                enqueue(intake)
            else:
                intake.status, intake.message = (
                    Status.FAILED,
                    "The worker stopped three times. Start it again to go on.",
                )
                intake.save(update_fields=["status", "message"])
                notify(intake.owner_id, "intake", intake.pk)
    for intake in forgotten(Intake.objects.filter(status=Status.QUEUED), "market.take_in", "intake_id"):
        enqueue(intake)
        count += 1
    return count


def carry_out(intake_id: int) -> None:
    """Read and store a queued file to its end, going on where an earlier try stopped."""
    with transaction.atomic():
        intake = Intake.objects.select_for_update(no_key=True).filter(pk=intake_id).first()
        if intake is None or intake.status != Status.QUEUED:
            return
        intake.status, intake.attempts = Status.RUNNING, intake.attempts + 1
        intake.started_at = intake.started_at or dt.datetime.now(dt.UTC)
        intake.lease_until = lease()
        intake.save()
    work = DatedWork(intake) if Mapping(**intake.mapping).kind != "chains" else Work(intake)
    mine = Intake.objects.filter(pk=intake.pk, status=Status.RUNNING, attempts=intake.attempts)
    try:
        with beating(lambda: mine.update(lease_until=lease()), settings.RUN_LEASE_SECONDS / 3):
            work.run()
    except Cancelled:
        stored = Intake.objects.get(pk=intake.pk).stored
        kept = (
            f"{stored} {work.stores} were stored and stay; take them back, or start again to go on."
            if stored
            else "Nothing was kept of it."
        )
        work.finish_data()
        end(intake, Status.CANCELLED, f"Cancelled. {kept}")
    except Lost:
        log.warning("intake %s was taken over", intake_id)
    except (IntakeError, Refused) as error:
        end(intake, Status.FAILED, str(getattr(error, "message", error)))
    except OperationalError:
        raise  # the lease runs out and it is taken up again
    except Exception:
        log.exception("intake %s failed", intake_id)
        end(intake, Status.FAILED, "The intake failed on an error of ours; it is in the worker's log.")
