<script setup lang="ts">
import { onMounted, watch } from 'vue'
import { RouterView } from 'vue-router'
import { whenSignedOut } from './api/client'
import AskLine from './components/AskLine.vue'
import AreaIndex from './components/AreaIndex.vue'
import ReadingLine from './components/ReadingLine.vue'
import { useSession } from './composables/useSession'
import { useStatus } from './composables/useStatus'
import SignInPage from './pages/SignInPage.vue'

const session = useSession()
const status = useStatus()
whenSignedOut(session.forget)
onMounted(session.look)
watch(session.who, (who) => who && void status.run())
</script>

<template>
  <SignInPage v-if="session.known.value && !session.who.value" />
  <div v-else-if="session.who.value" class="frame">
    <a class="skip" href="#page">To the page</a>
    <ReadingLine />
    <AreaIndex />
    <main id="page" tabindex="-1">
      <RouterView />
    </main>
    <AskLine />
  </div>
</template>

<style scoped>
.frame {
  display: grid;
  grid-template: auto 1fr auto / 160px 1fr;
  height: 100%;
}
.frame > :first-child,
.frame > :nth-child(2) {
  grid-column: 1 / -1;
}
main {
  overflow: auto;
  padding: 24px 28px;
  outline: none;
}
.skip {
  position: absolute;
  left: -999px;
  background: var(--sheet);
  padding: 4px 8px;
}
.skip:focus {
  left: 8px;
  top: 8px;
  z-index: 9;
}
@media (max-width: 760px) {
  .frame {
    grid-template: auto auto 1fr auto / 1fr;
  }
  main {
    padding: 16px;
  }
}
</style>
