import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import styled from "styled-components";
import { at } from "../lib/base";
import { signIn, signInByName } from "../lib/queries";
import { Button } from "../ui/Button";
import { Field } from "../ui/Field";
import { Trouble } from "../ui/States";
import { factsOf } from "./Loaded";

const Middle = styled.main`
  max-width: 520px;
  margin: 14vh auto 0;
  padding: 0 ${({ theme }) => theme.space.xl};
  h1 { font-size: ${({ theme }) => theme.size.title}; display: flex; gap: 10px; align-items: center; }
  code { background: ${({ theme }) => theme.color.sunken}; border-radius: 4px; padding: 2px 6px; white-space: nowrap; }
  form { display: grid; gap: ${({ theme }) => theme.space.m}; max-width: 320px; margin: ${({ theme }) => theme.space.l} 0; justify-items: start; }
  form > div { width: 100%; }
  p { color: ${({ theme }) => theme.color.inkSoft}; }
`;

// React may run an effect twice; a code is good only once.
let spent = "";

/** Trades the code behind #, or a name and its password, for a session. The code never reaches a log, since browsers do not send that part. */
export function SignIn() {
  const navigate = useNavigate();
  const [error, setError] = useState<Error | null>(null);
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [trying, setTrying] = useState(false);
  const code = window.location.hash.slice(1);
  useEffect(() => {
    if (!code || spent === code) return;
    spent = code;
    signIn(code).then(
      () => navigate("/", { replace: true }),
      (reason: Error) => setError(reason),
    );
  }, [code, navigate]);
  const byName = () => {
    setTrying(true);
    signInByName(name, password)
      .then(
        () => navigate("/", { replace: true }),
        (reason: Error) => setError(reason),
      )
      .finally(() => setTrying(false));
  };
  return (
    <Middle>
      <h1>
        <img src={at("/assets/reed.svg")} alt="" width="26" height="26" /> Reed Basket
      </h1>
      {error && <Trouble facts={factsOf(error)} />}
      {code && !error ? (
        <p role="status">Signing in …</p>
      ) : (
        <>
          <form
            aria-label="Sign in"
            onSubmit={(event) => {
              event.preventDefault();
              byName();
            }}
          >
            <Field label="Name" value={name} change={setName} autoComplete="username" />
            <Field label="Password" value={password} change={setPassword} type="password" autoComplete="current-password" />
            <Button look="main" type="submit" isPending={trying} isDisabled={!name || !password}>
              Sign in
            </Button>
          </form>
          <p>
            Or get a link that signs you in once, on the machine it runs on: <code>reed sign-in</code>
          </p>
        </>
      )}
    </Middle>
  );
}
