"""``agouti check``: is everything in order?"""

import click
import msgspec

from ...client.client import Client
from ...core.secrets.masking import printable
from ..app import Settings
from ..label_completion import LABEL
from ..terminal_text import colour, paint, show_json

_MARKS = {True: ("ok", "green"), False: ("WRONG", "red"), None: ("-", "yellow")}


@click.command("check")
@click.argument("labels", nargs=-1, type=LABEL)
@click.option(
    "--probe", is_flag=True, help="Measure what the models LABELS really do; costs some thousand tokens each."
)
@click.option("--max-cost", type=float, metavar="AMOUNT", help="With --probe: send nothing where it could cost more.")
@click.option("--write", is_flag=True, help="With --probe: write what was found into the entries.")
@click.option("--json", "as_json", is_flag=True, help="Print the findings as JSON.")
@click.pass_obj
def command(
    app: Settings, labels: tuple[str, ...], probe: bool, max_cost: float | None, write: bool, as_json: bool
) -> int:
    """Check the models or providers LABELS, or all of them; ends with 1 if anything is wrong.

    Is the address right and reachable, is there a key and is it accepted, does the provider offer the model? No
    tokens are spent, except with --probe: then small questions show what is done of what is claimed.
    """
    if probe:
        from ..probe_output import probe_models

        with Client(app.config) as client:
            return probe_models(client, labels, max_cost=max_cost, write=write, as_json=as_json)
    if write or max_cost is not None:
        raise click.UsageError("--write and --max-cost go with --probe")
    from ...services.check.check_entries import check

    with Client(app.config) as client:
        checked = check(client, labels)
    if as_json:
        show_json([{"ok": each.ok, **msgspec.to_builtins(each)} for each in checked])
    else:
        width = max((len(finding.what) for each in checked for finding in each.findings), default=0)
        for each in checked:
            click.echo(f"{paint(each.provider, bold=True)}  {each.address}")
            for finding in each.findings:
                mark, shade = _MARKS[finding.ok]
                mark = paint(f"{mark:5}", fg=shade) if colour() else f"{mark:5}"
                click.echo(f"  {mark}  {finding.what:{width}}  {printable(finding.detail)}")
                if finding.hint and not finding.ok:
                    click.echo(f"         {'':{width}}  {paint(printable(finding.hint), bold=True)}")
        faulty = [each.provider for each in checked if not each.ok]
        open_ = [each.provider for each in checked if any(finding.ok is None for finding in each.findings)]
        if faulty:
            ending = f"something is wrong with {', '.join(faulty)}"
        elif open_:
            ending = f"nothing wrong; not all could be tried with {', '.join(open_)}"
        else:
            ending = "all well"
        click.echo(f"\n{len(checked)} provider{'' if len(checked) == 1 else 's'} checked, {ending}")
    return 0 if all(each.ok for each in checked) else 1
