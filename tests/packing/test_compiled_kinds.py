"""Kinds of models that compile, on a data set that ships with scikit-learn: answers to rows held out are the library's."""

import unittest
import warnings
from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
import pandas as pd
from sklearn import (
    calibration,
    cluster,
    decomposition,
    discriminant_analysis,
    ensemble,
    gaussian_process,
    kernel_approximation,
    kernel_ridge,
    linear_model,
    model_selection,
    multiclass,
    naive_bayes,
    neighbors,
    preprocessing,
    random_projection,
    semi_supervised,
    svm,
    tree,
)
from sklearn.cross_decomposition import PLSRegression
from sklearn.datasets import load_wine
from sklearn.impute import MissingIndicator, SimpleImputer
from sklearn.pipeline import FeatureUnion, make_pipeline

from lamppost.core.artifact.schema_inference import columns_from_frame, infer_inputs
from lamppost.package.compiled_model import CompiledModel
from lamppost.package.sklearn_model import predict
from lamppost.packing.fitted import FittedStep, fitted_step, prepared
from lamppost.packing.recipe import Recipe

_ALL = load_wine(as_frame=True).frame.sample(frac=1, random_state=0).reset_index(drop=True)
FRAME = _ALL.iloc[:, [0, 1, 6, 9, 11, 12]].set_axis(list("abcdef"), axis=1)
KINDS = np.array(["barolo", "grignolino", "barbera"], dtype=object)[_ALL["target"].to_numpy()]
PAIR = np.where(_ALL["target"] == 1, "light", "full")
NUMBERS = FRAME["a"].to_numpy() + np.sin(FRAME["c"].to_numpy())
CUT = 110

Make = Callable[[], Any]
scaled = preprocessing.StandardScaler


def logistic() -> Any:
    return linear_model.LogisticRegression()


def small_tree() -> Any:
    return tree.DecisionTreeClassifier(max_depth=3, random_state=0)


def after(*steps: Any) -> Any:
    return make_pipeline(*steps, logistic())


def classifiers() -> Iterator[tuple[str, Any]]:
    parts = [("a", make_pipeline(scaled(), logistic())), ("b", small_tree()), ("c", naive_bayes.GaussianNB())]
    yield "support vectors", make_pipeline(scaled(), svm.SVC())
    yield "support vectors, polynomial", make_pipeline(scaled(), svm.SVC(kernel="poly", degree=2))
    yield "support vectors, nu", make_pipeline(scaled(), svm.NuSVC(nu=0.2, kernel="sigmoid", gamma=0.05))
    yield "nearest", make_pipeline(scaled(), neighbors.KNeighborsClassifier())
    yield "nearest by distance", make_pipeline(scaled(), neighbors.KNeighborsClassifier(7, weights="distance"))
    yield "linear discriminants", discriminant_analysis.LinearDiscriminantAnalysis()
    yield "quadratic discriminants", discriminant_analysis.QuadraticDiscriminantAnalysis()
    yield "naive Bayes of flags", make_pipeline(scaled(), naive_bayes.BernoulliNB())
    yield "naive Bayes of counts", make_pipeline(preprocessing.MinMaxScaler(clip=True), naive_bayes.MultinomialNB())
    yield "naive Bayes of complements", make_pipeline(preprocessing.MinMaxScaler(clip=True), naive_bayes.ComplementNB())
    yield "AdaBoost", ensemble.AdaBoostClassifier(n_estimators=12, random_state=0)
    yield "bagging", ensemble.BaggingClassifier(n_estimators=6, max_features=0.7, random_state=0)
    yield "soft voting by weight", ensemble.VotingClassifier(parts, voting="soft", weights=[1, 2, 3])
    yield "voting by labels", ensemble.VotingClassifier(parts)
    yield "stacking", ensemble.StackingClassifier([*parts, ("d", svm.LinearSVC())], cv=3)
    yield "calibrated by sigmoid", calibration.CalibratedClassifierCV(make_pipeline(scaled(), svm.LinearSVC()), cv=3)
    yield "calibrated by steps", calibration.CalibratedClassifierCV(small_tree(), method="isotonic", cv=3)
    yield "one against the rest", make_pipeline(scaled(), multiclass.OneVsRestClassifier(logistic()))
    yield "one against the rest, trees", multiclass.OneVsRestClassifier(small_tree())
    yield "search", model_selection.GridSearchCV(make_pipeline(scaled(), logistic()), {"logisticregression__C": [0.1, 1]}, cv=3)
    yield "self-training", make_pipeline(scaled(), semi_supervised.SelfTrainingClassifier(logistic()))
    yield "log-loss SGD", make_pipeline(scaled(), linear_model.SGDClassifier(loss="log_loss", random_state=0))
    yield "quantiles", after(preprocessing.QuantileTransformer(n_quantiles=40))
    yield "powers", after(preprocessing.PowerTransformer())
    for degree, bias in ((3, True), (1, False)):
        yield f"splines of degree {degree}", after(preprocessing.SplineTransformer(degree=degree, include_bias=bias))
    yield "bins", after(preprocessing.KBinsDiscretizer(5, encode="onehot-dense"))
    yield "numbered bins", after(preprocessing.KBinsDiscretizer(5, encode="ordinal"))
    yield (
        "codes that are numbers",
        after(preprocessing.FunctionTransformer(np.square), preprocessing.KBinsDiscretizer(4, encode="onehot-dense")),
    )
    yield "components", after(scaled(), decomposition.FastICA(3, random_state=0))
    yield "factors", after(scaled(), decomposition.FactorAnalysis(2))
    yield "projection", after(scaled(), random_projection.GaussianRandomProjection(3, random_state=0))
    yield "neighbourhood components", after(scaled(), neighbors.NeighborhoodComponentsAnalysis(2, random_state=0))
    yield "kernel of some rows", after(scaled(), kernel_approximation.Nystroem(n_components=20, random_state=0))
    yield "distances to centres", after(scaled(), cluster.KMeans(4, n_init=1, random_state=0))
    yield "what was missing", after(FeatureUnion([("filled", SimpleImputer(add_indicator=True)), ("gone", MissingIndicator())]))


def of_two() -> Iterator[tuple[str, Any]]:
    line = make_pipeline(scaled(), logistic())
    yield "its own threshold", model_selection.FixedThresholdClassifier(ensemble.ExtraTreesClassifier(12, random_state=0), threshold=0.3)
    yield "its own threshold for the first class", model_selection.FixedThresholdClassifier(line, threshold=0.3, pos_label="full")
    yield "a threshold on decisions", model_selection.FixedThresholdClassifier(line, threshold=0.4, response_method="decision_function")
    yield "a tuned threshold", model_selection.TunedThresholdClassifierCV(line, cv=3)
    yield "AdaBoost", ensemble.AdaBoostClassifier(n_estimators=12, random_state=0)
    yield "support vectors", make_pipeline(scaled(), svm.SVC())
    yield "calibrated", calibration.CalibratedClassifierCV(small_tree(), cv=3)
    yield "one against the rest", multiclass.OneVsRestClassifier(small_tree())
    yield "stacking", ensemble.StackingClassifier([("a", small_tree()), ("b", line)], cv=3)


def regressors() -> Iterator[tuple[str, Any]]:
    parts = [("a", linear_model.Ridge()), ("b", tree.DecisionTreeRegressor(max_depth=3))]
    yield "support vectors", make_pipeline(scaled(), svm.SVR())
    yield "nearest", make_pipeline(scaled(), neighbors.KNeighborsRegressor(weights="distance"))
    yield "kernel ridge", make_pipeline(scaled(), kernel_ridge.KernelRidge(kernel="rbf"))
    yield "voting by weight", ensemble.VotingRegressor(parts, weights=[1, 2])
    yield "stacking", ensemble.StackingRegressor(parts, cv=3)
    yield "bagging", ensemble.BaggingRegressor(n_estimators=5, random_state=0)
    yield "robust by samples", linear_model.RANSACRegressor(random_state=0)
    yield "partial least squares", PLSRegression(2)


class Kinds(unittest.TestCase):
    def step(self, model: Any, truth: Any) -> tuple[Any, FittedStep]:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            fitted = prepared(model.fit(FRAME.head(CUT), truth[:CUT]))
            step = fitted_step(fitted, FRAME.head(CUT), infer_inputs(FRAME.head(CUT)), "frame", Recipe("kind"), 0)
        return fitted, step

    def holds(self, name: str, model: Any, truth: Any) -> None:
        with self.subTest(name):
            fitted, step = self.step(model, truth)
            self.assertIsNotNone(step.step.compiled, step.step.not_compiled)
            assert step.step.compiled is not None
            takes = infer_inputs(FRAME.head(CUT))
            rows = FRAME.tail(len(FRAME) - CUT)
            graph = CompiledModel(step.members[step.step.compiled.file], step.step.compiled, takes)
            given = graph.run(columns_from_frame(takes, rows))
            for mine, theirs in zip(given, predict(step.step, fitted, rows), strict=True):
                np.testing.assert_allclose(mine.values, theirs.values, rtol=1e-9, atol=1e-9)
            self.assertIn(step.step.format, ("skops",), step.notes)

    def test_classifiers(self) -> None:
        for name, model in classifiers():
            self.holds(name, model, KINDS)

    def test_classifiers_of_two_classes(self) -> None:
        for name, model in of_two():
            self.holds(name, model, PAIR)

    def test_regressors(self) -> None:
        for name, model in regressors():
            self.holds(name, model, NUMBERS)

    def test_codes_that_are_numbers_become_flags(self) -> None:
        frame = pd.DataFrame({"code": np.tile([3, 5, 9], 40), "x": np.linspace(0, 1, 120)})
        truth = frame["code"] * 2 + frame["x"]
        model = make_pipeline(
            FeatureUnion([("codes", preprocessing.OneHotEncoder(handle_unknown="ignore", sparse_output=False))]), linear_model.Ridge()
        )
        model.fit(frame, truth)
        step = fitted_step(model, frame, infer_inputs(frame), "frame", Recipe("kind"), 0)
        self.assertIsNotNone(step.step.compiled, step.step.not_compiled)

    def test_what_is_not_compiled_is_held_by_skops_all_the_same(self) -> None:
        for model in (
            after(preprocessing.SplineTransformer(degree=0)),
            make_pipeline(scaled(), gaussian_process.GaussianProcessClassifier(random_state=0)),
            neighbors.RadiusNeighborsClassifier(500.0),
        ):
            step = self.step(model, KINDS)[1].step
            self.assertEqual((step.compiled, step.format), (None, "skops"), model)

    def test_what_is_too_large_or_unknown_is_not_compiled_and_says_why(self) -> None:
        for model, reason in (
            (svm.SVC(kernel=lambda a, b: a @ b.T), "the kernel of your own"),
            (preprocessing.QuantileTransformer(n_quantiles=20, output_distribution="normal"), "to a normal distribution"),
            (preprocessing.SplineTransformer(extrapolation="linear"), "that goes on linear outside"),
        ):
            whole = model if hasattr(model, "predict") else after(model)
            self.assertIn(reason, self.step(whole, KINDS)[1].step.not_compiled or "")
