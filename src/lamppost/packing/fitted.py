"""Describes a fitted object as a step: what it reads, its classes and targets, how it is stored, and its graph if it compiles."""

from __future__ import annotations

import warnings
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from lamppost.core.artifact.schema_inference import LabelKind, classifier_answers, multi_target_answers, regressor_answers
from lamppost.core.artifact.steps import AnswersBy, BoosterFiles, PredictedTarget, Reads, SklearnStep
from lamppost.core.errors import BadRequest
from lamppost.core.names import closest_name
from lamppost.core.schema.fields import Field, Schema
from lamppost.package import sklearn_model
from lamppost.package.boosted_model import BoostedModel, dump_trees, library_of, load_trees, n_classes, split
from lamppost.package.sklearn_model import as_read, frame_columns, target_classes
from lamppost.packing.compiling.known_types import label_is_highest_score
from lamppost.packing.compiling.step import compile_step
from lamppost.packing.own_code import dump_with_code
from lamppost.packing.recipe import Recipe

if TYPE_CHECKING:
    import pandas as pd

_CHECKED_ROWS = 5_000
_DECIDED_ROWS = 500
_CHECKED_NUMBERS = 4_000_000


@dataclass(frozen=True, slots=True)
class FittedStep:
    """A step with its members, and notes for the packer."""

    step: SklearnStep
    members: dict[str, bytes]
    notes: list[str]


def prepared(model: Any) -> Any:
    """A model with ``predict``: separately fitted pieces as one chain, a plain booster as an estimator. Nothing is fitted again."""
    if isinstance(model, (list, tuple)):
        return _chained(model)
    if library_of(model) and not hasattr(model, "get_params"):
        data, rounds = dump_trees(model)
        library = library_of(model)
        assert library is not None
        return load_trees(None, BoosterFiles(library, "the booster", rounds), data, n_classes(model))
    if hasattr(model, "best_estimator_"):  # a search: what it found answers
        return prepared(model.best_estimator_)
    if not hasattr(model, "predict") and not hasattr(model, "transform"):
        raise BadRequest(f"{type(model).__name__} has no predict; pack the fitted estimator or pipeline that answers")
    return model


def _chained(pieces: Sequence[Any]) -> Any:
    from sklearn.pipeline import Pipeline

    if not pieces:
        raise BadRequest("the list of pieces is empty; give the fitted objects in the order in which they run")
    return Pipeline([(f"{at}-{type(piece).__name__.lower()}", piece) for at, piece in enumerate(pieces)])


def inputs_of(model: Any, frame: pd.DataFrame, targets: Sequence[str]) -> tuple[pd.DataFrame, Reads, list[str]]:
    """The columns the model reads, in its order; how it reads them; remarks."""
    names = getattr(model, "feature_names_in_", None)
    lost = [name for name in targets if name not in frame.columns]
    if lost and len(targets) == 1 and names is None:
        raise BadRequest(f"the target {lost[0]!r} is no column of the training frame; its columns are {', '.join(map(str, frame.columns))}")
    if names is not None:
        columns = _as_named(names, frame)
        if unread := [name for name in columns if name not in frame.columns]:
            raise BadRequest(f"the model was fitted on columns that the training frame lacks: {', '.join(unread)}")
        left = [str(name) for name in frame.columns if str(name) not in columns and name not in targets]
        if lost and (like := [match for name in lost if (match := closest_name(str(name), left))]):
            raise BadRequest(f"the target {lost[0]!r} is no column of the training frame; did you mean {like[0]!r}?")
        return frame[columns], "frame", [f"not an input, because the model never saw it: {', '.join(left)}"] if left else []
    inputs = frame.drop(columns=[name for name in targets if name in frame.columns])
    if _reads_a_frame(model, inputs):
        return inputs, "frame", []
    expected = getattr(model, "n_features_in_", None)
    if expected is None and inputs.shape[1] == 1 and inputs.iloc[:, 0].map(lambda value: isinstance(value, str)).all():
        return inputs, "column", []
    width = sum(_width(inputs[name]) for name in inputs.columns)
    if expected is not None and width != expected:
        raise BadRequest(
            f"the model was fitted on {expected} columns, the training frame has {width}; "
            "give just the columns it was fitted on, in their order, and name the target"
        )
    return inputs, "matrix", []


def _as_named(names: Sequence[Any], frame: pd.DataFrame) -> list[str]:
    """The frame's columns that a model names: LightGBM writes ``_`` for spaces."""
    without_spaces = {str(name).replace(" ", "_"): str(name) for name in frame.columns}
    return [str(name) if str(name) in frame.columns else without_spaces.get(str(name), str(name)) for name in names]


def takes_unknown(model: Any, columns: Sequence[str]) -> set[str]:
    """Columns whose encoder takes categories that training never saw."""
    name = type(model).__name__
    if getattr(model, "handle_unknown", "error") != "error" or name == "TargetEncoder":
        return set(columns)
    if name == "Pipeline":
        found: set[str] = set()
        for _, step in model.steps:
            found |= takes_unknown(step, columns)
            if not type(step).__name__.endswith("Imputer"):
                break  # behind it stand other columns
        return found
    if name != "ColumnTransformer":
        return set()
    found = set()
    for part, step, _ in model.transformers_:
        if not isinstance(step, str):
            read = [str(columns[place]) for place in model._transformer_to_input_indices[part]]
            found |= takes_unknown(step, read)
    return found


def _reads_a_frame(model: Any, inputs: pd.DataFrame) -> bool:
    """Whether an object that does not say so was fitted on a frame: it takes two rows as a frame, and not as a plain matrix."""
    rows = inputs.iloc[:2]
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        ask = model.predict if hasattr(model, "predict") else model.transform
        try:
            ask(as_read("matrix", rows))
        except Exception:
            try:
                answered = ask(rows)
                return int(answered.shape[0] if hasattr(answered, "shape") else len(answered)) == len(rows)
            except Exception:
                return False
    return False


def _width(series: pd.Series) -> int:
    return int(np.asarray(series.iloc[0]).size) if sklearn_model.holds_arrays(series) else 1


def fitted_step(model: Any, frame: pd.DataFrame, takes: Schema, reads: Reads, recipe: Recipe, at: int) -> FittedStep:
    """The step of a model that was fitted on the frame's columns, compiled if that is exact."""
    sample = _sample(frame)
    matrix = as_read(reads, sample)
    answers_by = _answers_by(model)
    described = _answers(model, matrix, recipe) if answers_by == "predict" else _other_answers(model, matrix, answers_by)
    labels, targets, gives, scored = described
    step = SklearnStep(
        None,
        "skops",
        frame_columns(frame, takes_unknown(model, [str(name) for name in frame.columns])),
        gives,
        reads,
        labels,
        targets,
        "scores" if labels and scored and label_is_highest_score(model) else "predict",
        BoosterFiles("lightgbm", "none"),
        answers_by=answers_by,
    )
    step, members, stored = _stored(step, model, recipe, at)
    notes = []
    if recipe.compile:
        outcome = compile_step(step, model, takes, sample, recipe.tolerance, f"steps/{at}/compiled.onnx")
        step = replace(step, compiled=outcome.compiled, not_compiled=outcome.reason)
        notes.append(outcome.sentence())
        if outcome.compiled is not None and outcome.graph is not None:
            members[outcome.compiled.file] = outcome.graph
    if stored:
        notes.append(stored + ("; the compiled form serves" if step.compiled else ""))
    return FittedStep(step, members, notes)


def _stored(step: SklearnStep, model: Any, recipe: Recipe, at: int) -> tuple[SklearnStep, dict[str, bytes], str]:
    """The step with its files, and why they can run code: trees of the boosting libraries as text, everything else as an object."""
    members: dict[str, bytes] = {}
    before, trees = split(model)
    plain = getattr(model, "_model", model)
    library = library_of(trees)
    booster = None
    if isinstance(plain, BoostedModel):  # a booster without an estimator around it
        booster, before = BoosterFiles(plain.library, f"steps/{at}/trees.{_ENDINGS[plain.library]}", plain.rounds), None
        members[booster.file] = plain.data
    elif library is not None:
        data, rounds = dump_trees(trees)
        booster = BoosterFiles(library, f"steps/{at}/trees.{_ENDINGS[library]}", rounds)
        members[booster.file] = data
    else:
        before = model
    reason = ""
    if before is not None and (with_code := dump_with_code(before, recipe.installed)) is not None:
        if recipe.format == "skops":
            raise BadRequest(f"skops holds no code, and {with_code.summary}; leave the format open")
        step = replace(step, file=f"steps/{at}/model.pickle", format="pickle", booster=booster, code=tuple(sorted(with_code.modules)))
        assert step.file is not None
        members |= {step.file: with_code.data} | {f"{step.code_folder}/{path}": source for path, source in with_code.modules.items()}
        reason = with_code.summary
    elif before is not None:
        data, stored, reasons = sklearn_model.dump(before, recipe.format)
        if reasons:
            reason = f"the model is stored as pickle, because skops does not hold {', '.join(reasons[:3])}"
        step = replace(step, file=f"steps/{at}/model.{stored}", format=stored, booster=booster)
        assert step.file is not None
        members[step.file] = data
    return replace(step, booster=booster), members, reason


_ENDINGS = {"lightgbm": "txt", "xgboost": "json"}


_Answers = tuple[tuple[str, ...], tuple[PredictedTarget, ...], Schema, bool]


def _answers_by(model: Any) -> AnswersBy:
    from sklearn.base import is_outlier_detector

    if not hasattr(model, "predict"):
        return "transform"
    estimator = hasattr(model, "get_params") and not isinstance(getattr(model, "_model", model), BoostedModel)
    return "anomaly" if estimator and is_outlier_detector(model) and hasattr(model, "decision_function") else "predict"


def _other_answers(model: Any, matrix: Any, answers_by: AnswersBy) -> _Answers:
    """Labels, targets and schema of what answers otherwise than by ``predict``."""
    if answers_by == "anomaly":
        unusual = Field("unusual", "yes/no", meaning="whether the row is unlike those of training")
        score = Field("score", "number", meaning="how usual the row is; below 0 is unusual")
        return (), (), Schema((unusual, score)), False
    width = model.transform(_first_rows(matrix, 2)).shape[1]
    try:
        names = tuple(map(str, model.get_feature_names_out()))
    except Exception:  # transformers of one's own need not name what they make
        names = ()
    if len(set(names)) != width:
        names = tuple(f"value_{at}" for at in range(width))
    return (), (), Schema((Field("values", "vector", choices=names, meaning="what is made of the row"),)), False


def _answers(model: Any, matrix: Any, recipe: Recipe) -> _Answers:
    """Labels, targets, the schema of what the model gives, and whether it scores."""
    from sklearn.base import is_classifier

    predicted = model.predict(_first_rows(matrix, 2))
    count = predicted.shape[1] if getattr(predicted, "ndim", 1) == 2 and predicted.shape[1] > 1 else 1
    gives_labels = hasattr(model, "classes_") if isinstance(getattr(model, "_model", model), BoostedModel) else is_classifier(model)
    scored = hasattr(model, "predict_proba")
    if count == 1 and not isinstance(getattr(model, "classes_", None), list):
        mixture = scored and not gives_labels  # its parts have no names of their own
        classes = np.arange(model.predict_proba(_first_rows(matrix, 1)).shape[1]) if mixture else None
        if not gives_labels and not mixture:
            return (), (), regressor_answers(recipe.targets[0] if recipe.targets else "value", recipe.unit), scored
        labels = _labels(np.asarray(model.classes_ if classes is None else classes), recipe.labels)
        decided = not scored and _gives_decisions(model, _first_rows(matrix, _DECIDED_ROWS), model.classes_)
        return labels, (), classifier_answers(labels, scored, decided, _label_kind(recipe.labels)), scored
    names = recipe.targets or tuple(f"target_{at}" for at in range(count))
    if len(names) != count:
        raise BadRequest(f"the model answers with {count} values a row, and target names {len(names)}: {', '.join(names)}; name them all")
    if not gives_labels:
        targets = tuple(PredictedTarget(name) for name in names)
        return (), targets, multi_target_answers(targets, False, recipe.unit), False
    targets = tuple(
        PredictedTarget(name, tuple(map(str, classes))) for name, classes in zip(names, target_classes(model, count), strict=True)
    )
    return (), targets, multi_target_answers(targets, scored, None), scored


def _gives_decisions(model: Any, rows: Any, classes: Sequence[Any]) -> bool:
    """Whether ``decision_function`` gives a value for each row of two labels, or for each label, of which the highest is the label's.

    It may be of pairs of labels instead, which are as many as three labels are.
    """
    if not hasattr(model, "decision_function"):
        return False
    try:
        decisions = np.asarray(model.decision_function(rows))
    except Exception:  # what stands around an estimator may promise more than that has
        return False
    if len(classes) == 2:
        return decisions.shape == (len(rows),)
    if decisions.shape != (len(rows), len(classes)):
        return False
    return bool((np.asarray(classes)[decisions.argmax(axis=1)] == np.asarray(model.predict(rows))).all())


def _first_rows(matrix: Any, count: int) -> Any:
    return matrix.iloc[:count] if hasattr(matrix, "iloc") else matrix[:count]


def _labels(classes: np.ndarray[Any, Any], given: Mapping[Any, Any] | Sequence[Any] | None) -> tuple[str, ...]:
    values = classes.tolist()
    if given is not None and hasattr(given, "inverse_transform"):  # a label encoder that was fitted beside the model
        return tuple(map(str, given.inverse_transform(classes)))
    if given is None:
        return tuple(map(str, values))
    if isinstance(given, Mapping):
        by_text = {str(key): name for key, name in given.items()}
        if lost := [str(value) for value in values if str(value) not in by_text]:
            raise BadRequest(f"labels gives no name for the classes {', '.join(lost)}")
        return tuple(str(by_text[str(value)]) for value in values)
    if len(given) != len(values):
        raise BadRequest(f"labels has {len(given)} names, the model has {len(values)} classes: {', '.join(map(str, values))}")
    return tuple(map(str, given))


def _label_kind(given: Any) -> LabelKind:
    """What the label is, by the names that the packer gives: whole numbers and true/false stay what they are."""
    names = list(given.values()) if isinstance(given, Mapping) else list(given) if isinstance(given, Sequence) else []
    kinds = {type(name) for name in names}
    if kinds == {bool} and len(names) == 2 and len(set(names)) == 2:
        return "yes/no"
    if kinds == {int} and len(set(names)) == len(names):
        return "integer"
    if kinds - {str}:
        shown = ", ".join(repr(name) for name in names[:5])
        raise BadRequest(f"labels are texts, or different whole numbers, or True and False, not {shown}")
    return "choice"


def _sample(frame: pd.DataFrame) -> pd.DataFrame:
    """Rows spread evenly over the frame, so that a check on them is quick; fewer of wide ones."""
    width = sum(_width(frame[name]) for name in frame.columns)
    rows = min(len(frame), _CHECKED_ROWS, max(1_000, _CHECKED_NUMBERS // width))
    return frame.iloc[np.linspace(0, len(frame) - 1, num=rows).astype(int)]
