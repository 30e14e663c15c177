"""A remark that needs something worked out, as a newcomer would write one."""

from estampa.inspect.remarks.remark import Remark, check

MOST = 2.0  # m


@check(worked_out=True)
def too_tall(evaluator):
    for subject in evaluator.doc.subjects:
        top = float(evaluator.subject(subject, evaluator.doc.start).points[:, 1].max())
        if top > MOST:
            yield Remark("note", subject.id, f"{subject.name} reaches {top:.1f} m.", "The stall is lower.", "Lower it.")
