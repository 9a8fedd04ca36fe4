"""Background work of one process, in lanes: what takes long, or hangs, keeps nothing waiting but its own kind."""

from __future__ import annotations

import asyncio
import logging
import signal

from procrastinate import App
from procrastinate.jobs import Status

log = logging.getLogger(__name__)
LANES = {"arrivals": 1, "watch": 1, "sending": 1, "default": 2}  # queues, and how many tasks of each run at a time
CLEARED_S = 600.0  # between two looks for tasks that ended with their process


async def work(app: App) -> None:
    """Until the process is asked to stop, or a lane ends by itself, as when the database goes away: whoever started the process starts it again."""
    stopped = asyncio.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(number, stopped.set)
    async with app.open_async():
        lanes = [app.run_worker_async(queues=[queue], concurrency=most, delete_jobs="always", install_signal_handlers=False) for queue, most in LANES.items()]
        running = [asyncio.ensure_future(one) for one in (*lanes, _clear(app), stopped.wait())]
        await asyncio.wait(running, return_when=asyncio.FIRST_COMPLETED)
        for one in running:
            one.cancel()
        for outcome in await asyncio.gather(*running, return_exceptions=True):
            if isinstance(outcome, Exception):
                log.error("background work ends, and is begun anew: %s", outcome)


async def _clear(app: App) -> None:
    """Tasks of processes that were killed would else stay listed as under way."""
    while True:
        for job in await app.job_manager.get_stalled_jobs():
            await app.job_manager.finish_job(job, Status.FAILED, delete_job=True)
        await asyncio.sleep(CLEARED_S)
