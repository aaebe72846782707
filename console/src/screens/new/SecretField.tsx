import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { secretsQuery, setSecret } from "../../lib/queries";
import { Badge } from "../../ui/Badge";
import { Button } from "../../ui/Button";
import { Field, FormLine } from "../../ui/Field";
import { Trouble } from "../../ui/States";
import { factsOf } from "../Loaded";

/** A secret by its name. Its value goes to the service, is sealed there, and is never shown again; the definition holds the name alone. */
export function SecretField({ label, name, change }: { label: string; name: string; change: (name: string) => void }) {
  const [value, setValue] = useState("");
  const cache = useQueryClient();
  const held = useQuery(secretsQuery());
  const keep = useMutation({
    mutationFn: () => setSecret(name, value),
    onSuccess: () => {
      setValue("");
      void cache.invalidateQueries({ queryKey: ["secrets"] });
    },
  });
  const there = held.data?.some((one) => one.name === name);
  return (
    <div>
      <FormLine label={label} send={() => keep.mutate()}>
        <Field label={`${label}, as the secret`} value={name} change={change} width={140} />
        <Field
          label={there ? "New value (is set)" : "Value"}
          type="password"
          autoComplete="new-password"
          value={value}
          change={setValue}
          width={124}
        />
        <Button type="submit" isDisabled={!name || !value} isPending={keep.isPending}>
          Save secret
        </Button>
        {name && held.data && !there && <Badge word="not set yet" tone="warn" />}
      </FormLine>
      {keep.isError && <Trouble facts={factsOf(keep.error)} />}
    </div>
  );
}
