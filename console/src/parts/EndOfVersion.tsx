// Retiring a version, with another in its place where it serves, and deleting it.
import { Trash2 } from "lucide-react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, good, type VersionPage } from "../api/client";
import { useMay, useModelVersions } from "../api/queries";
import { useServiceChange } from "../api/useServiceChange";
import { Button, Card, Mono } from "./basics";
import { ConfirmDialog } from "./ConfirmDialog";
import { SelectMenu } from "./SelectMenu";
import { Tip } from "./Tip";
import { useToast } from "./Toasts";

export function EndOfVersion({ page }: { page: VersionPage }) {
  const may = useMay("point");
  if (!may) return null;
  return (
    <Card title="No longer needed?">
      <p className="text-soft">
        {page.retired_at
          ? "It is retired: stored, and kept from being served."
          : page.serves.length
            ? `It serves ${page.serves.join(", ")}. To retire it, choose what takes its place there.`
            : "Retired, it stays stored and cannot be served. Deleted, its package is gone; its records stay."}
      </p>
      <div className="mt-3 flex flex-wrap gap-3">
        <Retire page={page} />
        <Delete page={page} />
      </div>
    </Card>
  );
}

function Retire({ page }: { page: VersionPage }) {
  const toast = useToast();
  const versions = useModelVersions([page.model]);
  const [chosen, setChosen] = useState("");
  const others = versions.data?.filter((version) => version.name !== page.name && !version.retired_at && version.proof !== "failed") ?? [];
  const undo = page.retired_at !== null;
  const replacement = page.serves.length && !undo ? chosen || others[0]?.name : undefined;
  const retire = useServiceChange(
    "version",
    async () =>
      good(
        await api.POST("/api/models/{model}/versions/{number}/retire", {
          params: { path: { model: page.model, number: page.number } },
          body: { undo, replace_with: replacement ?? null, break_callers: false },
        }),
      ),
    (retired) => toast({ title: retired.summary, detail: <Mono>{retired.undo.join("; ")}</Mono> }),
  );
  const command = `lamppost retire ${page.name}${undo ? " --undo" : ""}${replacement ? ` --replace-with ${replacement}` : ""}`;
  if (page.serves.length && !undo && !others.length)
    return (
      <Tip text="There is no other version to take its place.">
        <span>
          <Button disabled>Retire it</Button>
        </span>
      </Tip>
    );
  return (
    <>
      {replacement && (
        <SelectMenu
          label="what takes its place"
          className="w-48!"
          value={replacement}
          options={others.map((version) => ({ value: version.name }))}
          onChange={setChosen}
        />
      )}
      <ConfirmDialog
        trigger={<Button>{undo ? "Let it serve again" : replacement ? "Replace and retire it" : "Retire it"}</Button>}
        title={undo ? `Let ${page.name} serve again?` : `Retire ${page.name}?`}
        command={command}
        confirm={undo ? "Let it serve" : "Retire it"}
        change={retire}
      >
        {undo
          ? "Endpoints can be pointed at it again. Nothing is served differently by this."
          : replacement
            ? `${page.serves.join(", ")} will serve ${replacement} in its place: it is opened and proven first, and all of this happens or nothing.`
            : "It stays stored, with everything that refers to it. This can be undone at any time."}
      </ConfirmDialog>
    </>
  );
}

function Delete({ page }: { page: VersionPage }) {
  const navigate = useNavigate();
  const toast = useToast();
  const remove = useServiceChange(
    "version",
    async () =>
      good(await api.DELETE("/api/models/{model}/versions/{number}", { params: { path: { model: page.model, number: page.number } } })),
    (deleted) => {
      void navigate("/models");
      toast({ title: deleted.summary });
    },
  );
  return (
    <ConfirmDialog
      trigger={
        <Button kind="danger">
          <Trash2 size={14} aria-hidden /> Delete it
        </Button>
      }
      title={`Delete ${page.name}?`}
      command={`lamppost delete version ${page.name}`}
      confirm="Delete it"
      confirming="Deleting …"
      danger
      change={remove}
    >
      Its package goes for good; keep the lamp file if you may need it again. Records, outcomes and the trail stay, and its number is not
      used again. If an endpoint serves it or may go back to it, nothing is deleted.
    </ConfirmDialog>
  );
}

/** Deletes all versions of a model. */
export function DeleteModel({ model }: { model: string }) {
  const may = useMay("point");
  const toast = useToast();
  const remove = useServiceChange(
    "version",
    async () => good(await api.DELETE("/api/models/{model}", { params: { path: { model } } })),
    (deleted) => toast({ title: deleted.summary }),
  );
  if (!may) return null;
  return (
    <ConfirmDialog
      trigger={
        <button type="button" className="p-1 text-faint hover:text-brick" aria-label={`delete ${model}`}>
          <Trash2 size={14} aria-hidden />
        </button>
      }
      title={`Delete ${model} with all its versions?`}
      command={`lamppost delete model ${model}`}
      confirm="Delete it"
      confirming="Deleting …"
      danger
      change={remove}
    >
      The packages go for good; records, outcomes and the trail stay. If an endpoint serves one of them or may go back to it, nothing is
      deleted.
    </ConfirmDialog>
  );
}
