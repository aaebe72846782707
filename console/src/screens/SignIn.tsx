import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import styled from "styled-components";
import { signIn } from "../lib/queries";
import { Trouble } from "../ui/States";
import { factsOf } from "./Loaded";

const Middle = styled.main`
  max-width: 520px;
  margin: 18vh auto 0;
  padding: 0 ${({ theme }) => theme.space.xl};
  h1 { font-size: ${({ theme }) => theme.size.title}; display: flex; gap: 10px; align-items: center; }
  code { background: ${({ theme }) => theme.color.sunken}; border-radius: 4px; padding: 2px 6px; }
`;

// React may run an effect twice; a code is good only once.
let spent = "";

/** Trades the code behind # for a session. The code never reaches a log, since browsers do not send that part. */
export function SignIn() {
  const navigate = useNavigate();
  const [error, setError] = useState<Error | null>(null);
  const code = window.location.hash.slice(1);
  useEffect(() => {
    if (!code || spent === code) return;
    spent = code;
    signIn(code).then(
      () => navigate("/", { replace: true }),
      (reason: Error) => setError(reason),
    );
  }, [code, navigate]);
  return (
    <Middle>
      <h1>
        <img src="/assets/reed.svg" alt="" width="26" height="26" /> Reed Basket
      </h1>
      {error && <Trouble facts={factsOf(error)} />}
      {code && !error ? (
        <p role="status">Signing in …</p>
      ) : (
        <p>
          Get a link that signs you in once: <code>reed sign-in</code>
        </p>
      )}
    </Middle>
  );
}
